// A text message: written on the left, read on a drawn phone on the right; parts and cost follow in the margin.
(() => {
  const page = document.getElementById('text');
  const words = document.getElementById('words');
  const {base, message} = page.dataset;
  let {draft, person} = page.dataset;
  let waiting = null, dirty = false;
  let saving = Promise.resolve();
  const get = async (address) => (await fetch(address, {headers: {Accept: 'application/json'}})).json();

  function save(plainer) {
    clearTimeout(waiting);
    saving = saving.then(async () => {
      const sent = words.value;
      try {
        const answer = await Meadowrun.post(base, {text: sent, draft, plainer: plainer === true});
        draft = answer.draft;
        if (plainer === true) words.value = answer.text;
        dirty = words.value !== sent && plainer !== true;
        document.getElementById('saved').textContent = `Draft ${draft} · saved ${answer.saved}`;
        document.getElementById('margin').innerHTML = answer.margin;
        Meadowrun.say('');
        await read();
      } catch (problem) {
        document.getElementById('saved').textContent = 'Not saved yet';
        Meadowrun.say(problem.message);
      }
    });
    return saving;
  }

  async function read() {
    const answer = await get(`${base}/read?as=${person}`);
    if (answer.error) return;
    document.getElementById('bubble').textContent = answer.text;
    document.getElementById('read-as').textContent = answer.name;
    document.getElementById('p-as').value = answer.person || '';
    document.getElementById('parts').textContent = `${answer.parts} ${answer.parts === 1 ? 'part' : 'parts'}, ${answer.alphabet}, ${answer.left} free`;
  }

  words.addEventListener('input', (event) => {
    dirty = true;
    clearTimeout(waiting);
    document.getElementById('saved').textContent = `Draft ${draft} · writing …`;
    waiting = setTimeout(save, 450);
    if (event.data === '@' || event.data === '#') offer(event.data, true);
  });

  async function offer(sign, typed) {
    const known = await get(`${message}/fills`);
    const place = words.selectionStart;
    const items = sign === '#' ? known.facts : known.fields;
    const sheet = Meadowrun.pop(words, '<input class="form-control form-control-sm" type="search" data-narrow aria-label="Narrow" placeholder="Type to narrow" autocomplete="off"><div class="choices"></div><label class="form-label mb-0" for="fb">and where it is blank</label><input class="form-control form-control-sm" id="fb" name="fallback" placeholder="friend">', (form) => {
      if (!form.get('ref')) return;
      const fallback = (form.get('fallback') || '').replace(/["{}\\]/g, '');
      words.setRangeText(`{{ ${form.get('ref')}${fallback ? ` | default("${fallback}", true)` : ''} }}`, place - (typed ? 1 : 0), place, 'end');
      Meadowrun.closePop();
      words.focus();
      save();
    });
    sheet.querySelector('.choices').replaceChildren(...items.map((item) => Object.assign(document.createElement('button'), {className: 'choice', name: 'ref', value: item.ref, textContent: item.label + (item.value ? ' · ' + item.value : '')})));
  }

  page.querySelectorAll('[data-insert]').forEach((b) => b.addEventListener('click', () => offer(b.dataset.insert, false)));
  document.getElementById('margin').addEventListener('click', (event) => {
    if (event.target.id === 'plainer') save(true);
    if (event.target.closest('[data-goto]')) words.focus();
  });
  document.getElementById('help').addEventListener('click', (event) => Meadowrun.suggest(event.target, message, '', 'plain', (text) => {
    words.setRangeText(text, words.selectionStart, words.selectionEnd, 'end');
    save();
  }));
  Meadowrun.readAs(message, () => person, (id) => { person = id; read(); });
  window.addEventListener('beforeunload', (event) => { if (dirty) event.preventDefault(); });
  read();
})();
