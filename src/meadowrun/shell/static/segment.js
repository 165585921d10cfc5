// The segment's page. The definition lives here; every change is worked out on the server and comes back drawn.
(() => {
  const page = document.getElementById('segment');
  let definition = JSON.parse(page.dataset.definition);
  const segment = page.dataset.segment ? Number(page.dataset.segment) : null;
  let name = page.dataset.name;
  const past = [];
  let busy = Promise.resolve();

  function draw(answer, focus) {
    for (const [part, html] of Object.entries(answer.parts)) page.querySelector(`[data-part=${part}]`).innerHTML = html;
    if (focus) {
      const target = page.querySelector(focus);
      if (target) target.focus();
    }
  }

  // One change after the other, so that fast typing never loses one.
  function change(what, focus) {
    busy = busy.then(async () => {
      try {
        const answer = await Meadowrun.post('/segments/look', {definition, segment, change: what});
        past.push(definition);
        definition = answer.definition;
        Meadowrun.say('');
        document.getElementById('unsaved').hidden = false;
        document.getElementById('undo').disabled = false;
        draw(answer, typeof focus === 'function' ? focus(answer) : focus);
        Meadowrun.closePop();
      } catch (problem) { Meadowrun.say(problem.message); }
    });
    return busy;
  }

  async function open(button, id, slot) {
    try {
      const answer = await Meadowrun.post('/segments/word', {definition, id, slot});
      listen(Meadowrun.pop(button, answer.form, (form) => {
        if (form.get('turn')) { change({do: 'set', id, patch: {did: false}}, `[data-line="${id}"][data-slot=did]`); return; }
        if (form.get('reading') || form.get('about')) {
          const what = form.get('reading') ? {line: JSON.parse(form.get('reading'))} : {about: form.get('about')};
          change({do: 'become', id, ...what}, `[data-line="${id}"].word`);
          return;
        }
        change({do: 'answer', id, slot, form: [...form.entries()]}, `[data-line="${id}"][data-slot="${slot}"]`);
      }));
    } catch (problem) { Meadowrun.say(problem.message); }
  }

  // A sentence typed where a line is picked: what it may mean stands above the list, after a short rest.
  function listen(sheet) {
    const box = sheet.querySelector('[data-typed]');
    if (!box) return;
    const place = sheet.querySelector('[data-readings]');
    let timer = null, asked = '';
    box.addEventListener('input', () => {
      clearTimeout(timer);
      timer = setTimeout(async () => {
        asked = box.value;
        const answer = asked.trim().length > 2 ? await Meadowrun.post('/segments/typed', {text: asked}) : {readings: []};
        if (box.value !== asked) return;
        place.replaceChildren(...answer.readings.map((reading) => {
          const choice = document.createElement('button');
          choice.className = 'choice reading';
          choice.name = 'reading';
          choice.value = JSON.stringify(reading.line);
          choice.textContent = reading.said;
          choice.title = reading.meaning;
          return choice;
        }));
      }, 180);
    });
  }

  async function add(button, into, out) {
    const answer = await Meadowrun.post('/segments/word', {definition, slot: 'new'});
    listen(Meadowrun.pop(button, answer.form, (form) => {
      const what = form.get('reading') ? {line: JSON.parse(form.get('reading'))} : {about: form.get('about')};
      if (!what.line && !what.about) return;
      change({do: 'add', ...what, into, out}, (a) => `[data-line="${a.touched}"].word`);
    }));
  }

  page.addEventListener('click', (event) => {
    const button = event.target.closest('button');
    if (!button) return;
    if (button.dataset.slot) open(button, button.dataset.line, button.dataset.slot);
    else if (button.dataset.lost) lost(button, button.dataset.lost);
    else if (button.dataset.do) change({do: button.dataset.do, id: button.dataset.line}, '#narrow');
    else if (button.dataset.group) change({do: 'group', match: button.dataset.group}, (a) => `.sieve-row.in [data-add="${a.touched}"]`);
    else if ('add' in button.dataset) add(button, button.dataset.add, Boolean(button.dataset.out));
    else if (button.id === 'undo') undo();
    else if (button.id === 'save') save(button);
  });

  document.addEventListener('keydown', (event) => {
    const typing = event.target.closest('input, textarea, select, [contenteditable]');
    if (!typing && !event.ctrlKey && !event.metaKey && !event.altKey && !document.querySelector('.pop')) {
      // One key for each way to go on: / narrows, - leaves out, g begins a group.
      const way = {'/': '#narrow', '-': '[data-out]', g: '[data-group]'}[event.key];
      const button = way && page.querySelector(way);
      if (button) { event.preventDefault(); button.click(); }
    }
    if ((event.ctrlKey || event.metaKey) && event.key === 'z' && !typing) { event.preventDefault(); undo(); }
  });

  async function lost(button, line) {
    try {
      const answer = await Meadowrun.post('/segments/lost', {definition, line});
      Meadowrun.pop(button, answer.form, () => {});
    } catch (problem) { Meadowrun.say(problem.message); }
  }

  async function undo() {
    if (!past.length) return;
    definition = past.pop();
    document.getElementById('undo').disabled = !past.length;
    const answer = await Meadowrun.post('/segments/look', {definition, segment});
    draw(answer, '#narrow');
  }

  function save(button) {
    Meadowrun.pop(button, '<label class="form-label mb-0" for="sn">Name you will recognise later</label><input class="form-control" id="sn" name="name"><div class="doing"><button class="btn btn-primary btn-sm">Save</button></div>', async (form) => {
      name = form.get('name');
      try {
        const answer = await Meadowrun.post(page.dataset.save, {definition, segment, name, part: page.dataset.partKey, version: page.dataset.version ? Number(page.dataset.version) : null});
        past.length = 0;
        document.getElementById('unsaved').hidden = true;
        location.href = answer.to;
      } catch (problem) { Meadowrun.say(problem.message); }
    });
    document.getElementById('sn').value = name;
    document.getElementById('sn').select();
  }

  window.addEventListener('beforeunload', (event) => { if (!document.getElementById('unsaved').hidden) event.preventDefault(); });
})();
