// A text message or a push notification: written in coloured words on the left, read on a drawn device on
// the right.
(() => {
  const page = document.querySelector('[data-short]');
  const {base, message} = page.dataset;
  let {draft, version, person} = page.dataset;
  let waiting = null,
    dirty = false;
  let saving = Promise.resolve();
  const words = Meadowrun.words(message, Meadowrun.who(), () => soon());
  const get = async (address) =>
    (await fetch(address, {headers: {Accept: 'application/json'}})).json();
  const at = (slot) => page.querySelector(`[data-slot="${slot}"]`);
  const value = (slot) => (at(slot).isContentEditable ? words.textOf(at(slot)) : at(slot).value);
  const put = (id, text) => {
    document.getElementById(id).textContent = text;
  };

  const text = {
    gathered: () => ({text: value('plain')}),
    saved: () => {},
    shown: (answer) => {
      put('bubble', answer.text);
      put(
        'parts',
        `${answer.parts} ${answer.parts === 1 ? 'part' : 'parts'}, ${answer.alphabet}, ${answer.left} free`,
      );
    },
  };

  function picture(id, source) {
    const image = document.getElementById(id);
    image.hidden = !source;
    if (source) image.src = source;
  }

  const notification = {
    gathered: () => ({
      subject: value('subject'),
      plain: value('plain'),
      push: {
        picture: value('picture'),
        icon: value('icon'),
        href: value('href'),
        tap: value('tap'),
        page: Number(value('page') || 0),
        ttl: Number(value('ttl')),
        close_after: Number(value('close_after') || 0),
        inbox: at('inbox').checked,
        systems: ['web', 'android', 'ios'].filter((s) => at('system-' + s).checked),
        buttons: [0, 1].map((n) => ({label: value('label' + n), href: value('button' + n)})),
        data: [0, 1, 2].map((n) => [value('key' + n), value('data' + n)]),
      },
    }),
    saved: () => {
      const tap = value('tap');
      at('href').hidden = tap !== 'address';
      at('page').hidden = tap !== 'page';
    },
    shown: (answer) => {
      put('n-title', answer.title || '(no title yet)');
      put('n-body', answer.body);
      picture('n-icon', answer.push.icon);
      picture('n-picture', answer.push.picture);
      document
        .getElementById('n-buttons')
        .replaceChildren(
          ...answer.push.buttons.map((b) =>
            Object.assign(document.createElement('span'), {
              className: 'toast-button',
              textContent: b.label,
              title: b.href,
            }),
          ),
        );
      const {tap, href} = answer.push,
        leads = document.getElementById('n-leads');
      leads.textContent =
        tap === 'app'
          ? 'a tap opens the app'
          : tap === 'page'
            ? ''
            : href
              ? `a tap opens ${href}`
              : '';
      if (tap === 'page' && value('page') !== '0')
        leads.append(
          Object.assign(document.createElement('a'), {
            href: `/messages/${value('page')}?as=${person}`,
            textContent: 'a tap opens this page',
          }),
        );
    },
  };
  const kind = page.dataset.short === 'text' ? text : notification;

  // From here until the answer, leaving the page asks first.
  function unsaved() {
    dirty = true;
    clearTimeout(waiting);
    put('saved', `Draft ${draft} · writing …`);
  }

  function soon() {
    unsaved();
    waiting = setTimeout(save, 450);
  }

  function save(more) {
    unsaved();
    saving = saving.then(async () => {
      const sent = JSON.stringify(kind.gathered());
      try {
        const answer = await Meadowrun.post(base, {...JSON.parse(sent), version, ...(more || {})});
        draft = answer.draft;
        version = answer.version;
        Object.entries(answer.slots || {}).forEach(([slot, drawn]) => {
          at(slot).innerHTML = drawn;
        });
        kind.saved();
        dirty = !more && JSON.stringify(kind.gathered()) !== sent;
        put('saved', `Draft ${draft} · saved ${answer.saved}`);
        document.getElementById('margin').innerHTML = answer.margin;
        Meadowrun.say('');
        await read();
      } catch (problem) {
        put('saved', 'Not saved yet');
        if (problem.newest === undefined) Meadowrun.say(problem.message);
        else
          Meadowrun.conflict(
            problem,
            () => keep(problem.newest),
            () => keep(problem.newest, true),
          );
      }
    });
    return saving;
  }

  Meadowrun.saveNow = () => save();

  // Mine becomes a draft of its own after theirs; to open theirs, that one is made the newest
  // again.
  async function keep(newest, theirs) {
    version = newest;
    await save({apart: true});
    dirty = false;
    if (theirs) await Meadowrun.restore(message, draft - 1);
  }

  async function read() {
    const answer = await get(`${base}/read?as=${person}`);
    if (answer.error) return;
    kind.shown(answer);
    put('read-as', answer.name);
    document.getElementById('p-as').value = answer.person || '';
  }

  const typed = (event) => {
    const place = event.target.closest('[data-slot]');
    if (!place) return;
    soon();
    if (!place.isContentEditable) return;
    if (place.textContent.trim() === '' && !place.querySelector('[data-fill]'))
      place.dataset.empty = '';
    else delete place.dataset.empty;
    if ('@#'.includes(event.data || ' ')) words.offer(place, event.data);
  };
  page.addEventListener('input', typed);
  // Not every browser tells of a choice as input.
  page.addEventListener('change', (event) => {
    if (event.target.matches('select')) typed(event);
  });
  page.addEventListener('keydown', (event) => {
    if (event.key === 'Enter' && event.target.matches('.ink:not([data-multi])'))
      event.preventDefault();
  });
  page.addEventListener('mousedown', (event) => {
    if (event.target.closest('.ink-tools button')) event.preventDefault();
  });
  page.addEventListener('click', (event) => {
    const chip = event.target.closest('.ink [data-fill]');
    if (chip) {
      words.change(chip);
      return;
    }
    const button = event.target.closest('button');
    if (!button) return;
    const place = button.closest('.line, .pad')?.querySelector('.ink');
    if (button.dataset.insert) words.offer(place, button.dataset.insert, false);
    if (button.dataset.help)
      Meadowrun.suggest(button, message, '', button.dataset.help, (said) => {
        place.append(document.createTextNode((place.textContent.trim() ? ' ' : '') + said));
        delete place.dataset.empty;
        save({redraw: true});
      });
    if (button.dataset.store)
      Meadowrun.choosePicture(button, (src) => {
        at(button.dataset.store).value = src;
        soon();
      });
    if (button.dataset.look) {
      page
        .querySelectorAll('[data-look]')
        .forEach((b) => b.setAttribute('aria-pressed', String(b === button)));
      document.getElementById('screen').classList.toggle('phone', button.dataset.look === 'phone');
    }
    if (button.id === 'plainer') save({plainer: true});
  });
  document.getElementById('margin').addEventListener('click', (event) => {
    const found = event.target.closest('[data-goto]');
    if (found) at(found.dataset.goto.split(':')[1])?.focus();
    const other = event.target.closest('[data-as]');
    if (other) {
      person = other.dataset.as;
      read();
    }
  });
  Meadowrun.readAs(
    message,
    () => person,
    (id) => {
      person = id;
      read();
    },
  );
  window.addEventListener('beforeunload', (event) => {
    if (dirty) event.preventDefault();
  });
  read();
})();
