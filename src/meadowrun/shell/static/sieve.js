// Lines of a definition beside their sieve, inside any element. Every change is worked out on the
// server and comes back drawn. `changed` is called after each with the number of steps that can be
// undone. Gives what others need: the definition, undo, draw.
Meadowrun.sieve = (page, definition, segment, changed) => {
  const past = [];
  let busy = Promise.resolve();

  function draw(answer, focus) {
    cease();
    for (const [part, html] of Object.entries(answer.parts)) {
      const place = page.querySelector(`[data-part=${part}]`);
      if (place) place.innerHTML = html;
    }
    if (focus) {
      const target = page.querySelector(focus);
      if (target) target.focus();
    }
    settle();
  }

  // What is estimated, or of a while ago, is worked out exactly behind it, until something else is
  // asked for or it is stopped.
  let behind = null;

  async function settle() {
    const place = page.querySelector('[data-more]');
    if (!place) return;
    const token = Meadowrun.token();
    behind = {token, address: place.dataset.more};
    try {
      const answer = await Meadowrun.post('/segments/look', {definition, segment, exact: token});
      // A small form that is open keeps its place until it is closed.
      while (document.querySelector('.pop'))
        await new Promise((done) => {
          setTimeout(done, 300);
        });
      if (!behind || behind.token !== token) return;
      behind = null;
      const now = document.activeElement,
        {line, slot} = now && page.contains(now) ? now.dataset : {};
      draw(
        answer,
        slot
          ? `[data-line="${line}"][data-slot="${slot}"]`
          : now && now.id && page.contains(now)
            ? `#${now.id}`
            : '',
      );
    } catch (problem) {
      if (behind && behind.token === token) stopped(problem.message);
    }
  }

  function cease() {
    if (!behind) return;
    const form = new FormData();
    form.set('token', behind.token);
    fetch(behind.address, {
      method: 'POST',
      headers: {'X-CSRFToken': Meadowrun.csrf()},
      body: form,
      keepalive: true,
    });
    behind = null;
  }

  function stopped(why) {
    cease();
    const place = page.querySelector('[data-more]');
    if (!place) return;
    place.querySelector('[data-said]').textContent = why;
    place.querySelector('[data-stop]').textContent = 'Show it';
    place.querySelector('[data-stop]').dataset.stop = 'again';
  }

  // One change after the other, so that fast typing never loses one.
  function change(what, focus) {
    busy = busy.then(async () => {
      try {
        const answer = await Meadowrun.post('/segments/look', {definition, segment, change: what});
        past.push(definition);
        definition = answer.definition;
        Meadowrun.say('');
        changed(past.length);
        draw(answer, typeof focus === 'function' ? focus(answer) : focus);
        Meadowrun.closePop();
      } catch (problem) {
        Meadowrun.say(problem.message);
      }
    });
    return busy;
  }

  async function open(button, id, slot) {
    try {
      const answer = await Meadowrun.post('/segments/word', {definition, id, slot});
      listen(
        Meadowrun.pop(button, answer.form, (form) => {
          if (form.get('turn')) {
            change({do: 'set', id, patch: {did: false}}, `[data-line="${id}"][data-slot=did]`);
            return;
          }
          if (form.get('reading') || form.get('about')) {
            const what = form.get('reading')
              ? {line: JSON.parse(form.get('reading'))}
              : {about: form.get('about')};
            change({do: 'become', id, ...what}, `[data-line="${id}"].word`);
            return;
          }
          change(
            {do: 'answer', id, slot, form: [...form.entries()]},
            `[data-line="${id}"][data-slot="${slot}"]`,
          );
        }),
      );
    } catch (problem) {
      Meadowrun.say(problem.message);
    }
  }

  // A sentence typed where a line is picked: what it may mean stands above the list, after a short
  // rest.
  function listen(sheet) {
    const box = sheet.querySelector('[data-typed]');
    if (!box) return;
    const place = sheet.querySelector('[data-readings]');
    let timer = null;
    const ask = async (asked) => {
      const answer = await Meadowrun.post('/segments/typed', {text: asked}).catch(() => ({
        readings: [],
      }));
      if (box.value === asked) show(answer.readings);
    };
    const show = (readings) => {
      place.replaceChildren(
        ...readings.map((reading) => {
          const choice = document.createElement('button');
          choice.className = 'choice reading';
          choice.name = 'reading';
          choice.value = JSON.stringify(reading.line);
          choice.textContent = reading.said;
          choice.title = reading.meaning;
          if (reading.unused.length) {
            const left = document.createElement('small');
            left.className = 'warn';
            left.textContent = ` ${Meadowrun.wording('makes nothing of “%(words)s”', {words: reading.unused.join('”, “')})}`;
            choice.append(left);
          }
          return choice;
        }),
      );
      sheet.coming = null;
      Meadowrun.mark(sheet);
    };
    box.addEventListener('input', () => {
      clearTimeout(timer);
      const asked = box.value;
      if (asked.trim().length < 3) {
        show([]);
        return;
      }
      sheet.coming = new Promise((done) => {
        timer = setTimeout(() => ask(asked).finally(done), 180);
      });
    });
  }

  async function add(button, into, out) {
    const answer = await Meadowrun.post('/segments/word', {definition, slot: 'new'});
    listen(
      Meadowrun.pop(button, answer.form, (form) => {
        const what = form.get('reading')
          ? {line: JSON.parse(form.get('reading'))}
          : {about: form.get('about')};
        if (!what.line && !what.about) return;
        change({do: 'add', ...what, into, out}, (a) => `[data-line="${a.touched}"].word`);
      }),
    );
  }

  page.addEventListener('click', (event) => {
    const button = event.target.closest('button');
    if (!button) return;
    if (button.dataset.stop === 'again') {
      button.dataset.stop = '';
      button.textContent = 'Stop';
      settle();
    } else if ('stop' in button.dataset) stopped('Stopped.');
    else if (button.dataset.slot) open(button, button.dataset.line, button.dataset.slot);
    else if (button.dataset.lost) lost(button, button.dataset.lost);
    else if (button.dataset.do) change({do: button.dataset.do, id: button.dataset.line}, '#narrow');
    else if (button.dataset.group)
      change(
        {do: 'group', match: button.dataset.group},
        (a) => `.sieve-row.in [data-add="${a.touched}"]`,
      );
    else if ('add' in button.dataset) add(button, button.dataset.add, Boolean(button.dataset.out));
  });

  document.addEventListener('keydown', (event) => {
    if (!page.offsetParent) return;
    const typing = event.target.closest('input, textarea, select, [contenteditable]');
    if (
      !typing &&
      !event.ctrlKey &&
      !event.metaKey &&
      !event.altKey &&
      !document.querySelector('.pop')
    ) {
      // One key for each way to go on: / narrows, - leaves out, g begins a group.
      const way = {'/': '#narrow', '-': '[data-out]', g: '[data-group]'}[event.key];
      const button = way && page.querySelector(way);
      if (button) {
        event.preventDefault();
        button.click();
      }
    }
    if ((event.ctrlKey || event.metaKey) && event.key === 'z' && !typing) {
      event.preventDefault();
      undo();
    }
  });

  async function lost(button, line) {
    try {
      const answer = await Meadowrun.post('/segments/lost', {definition, line});
      const sheet = Meadowrun.pop(button, answer.form, () => {});
      sheet.addEventListener('click', (event) => {
        if (event.target.dataset.after) furtherLost(event.target, line);
      });
    } catch (problem) {
      Meadowrun.say(problem.message);
    }
  }

  async function furtherLost(button, line) {
    try {
      const answer = await Meadowrun.post('/segments/lost', {
        definition,
        line,
        after: Number(button.dataset.after),
      });
      button.outerHTML = answer.form;
    } catch (problem) {
      Meadowrun.say(problem.message);
    }
  }

  async function undo() {
    if (!past.length) return;
    definition = past.pop();
    changed(past.length);
    const answer = await Meadowrun.post('/segments/look', {definition, segment});
    draw(answer, '#narrow');
  }

  settle();

  return {
    get definition() {
      return definition;
    },
    async start(lines) {
      definition = lines;
      past.length = 0;
      draw(await Meadowrun.post('/segments/look', {definition, segment}), '#narrow');
    },
    undo,
    forget() {
      past.length = 0;
    },
  };
};
