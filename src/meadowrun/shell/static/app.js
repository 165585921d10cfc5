// What scripts have at hand: talking to the server, saying problems, small sheets, reading as
// somebody.
const Meadowrun = {
  csrf: () => document.querySelector('meta[name=csrf]').content,

  // A name for work on the server, by which it is found and stopped.
  token: () =>
    [...crypto.getRandomValues(new Uint8Array(8))]
      .map((byte) => byte.toString(16).padStart(2, '0'))
      .join(''),

  // A text in the language of the page, with its values; English where there is none other.
  wording(message, values = {}) {
    const other = document.getElementById('wordings');
    const known = other ? JSON.parse(other.textContent) : {};
    return (known[message] || message).replace(/%\((\w+)\)s/g, (_, name) => values[name]);
  },

  // A part of a page from an address, as text. Null where nothing comes: an address that does not
  // answer, or refuses, is said; what the page itself gave up, by `options.signal`, is not.
  part: (address, options) => Meadowrun.reach(address, 'text', options),

  // The same of JSON.
  data: (address, options) => Meadowrun.reach(address, 'json', options),

  async reach(address, kind, options = {}) {
    const accept = kind === 'json' ? 'application/json' : 'text/html';
    try {
      const response = await fetch(address, {headers: {Accept: accept}, ...options});
      Meadowrun.reached(true);
      if (response.ok && !response.redirected) return await response[kind]();
      // Another page than asked for: whoever was signed out meanwhile is asked to sign in.
      if (response.redirected) location.assign(response.url);
      else Meadowrun.say(await Meadowrun.refusal(response));
    } catch (problem) {
      if (problem.name !== 'AbortError') Meadowrun.reached(false);
    }
    return null;
  },

  // That Meadowrun does not answer is said until it does again.
  reached(now) {
    const note = document.getElementById('said');
    if (!now) {
      Meadowrun.say(Meadowrun.wording('Meadowrun does not answer. Try again.'));
      document.getElementById('said').dataset.away = '';
    } else if (note && 'away' in note.dataset) note.remove();
  },

  async refusal(response) {
    const answer = await response.json().catch(() => ({}));
    return answer.error || Meadowrun.wording('That did not work. Reload the page.');
  },

  // Posts JSON; resolves to the answer, or rejects with {message, where, status}.
  async post(address, data) {
    let response;
    try {
      response = await fetch(address, {
        method: 'POST',
        headers: {
          'Content-Type': 'application/json',
          Accept: 'application/json',
          'X-CSRFToken': Meadowrun.csrf(),
        },
        body: JSON.stringify(data),
      });
    } catch (problem) {
      throw {
        message: Meadowrun.wording(
          'Meadowrun does not answer. What you typed is still here; it is tried again with your next change.',
        ),
        status: 0,
      };
    }
    const answer = await response.json().catch(() => ({}));
    if (!response.ok)
      throw {
        message: answer.error || Meadowrun.wording('That did not work.'),
        where: answer.where,
        status: response.status,
        newest: answer.newest,
      };
    return answer;
  },

  // The answer to a question of the page, or null with the reason said.
  asked: (address, data) =>
    Meadowrun.post(address, data).catch((problem) => {
      Meadowrun.say(problem.message);
      return null;
    }),

  // Two people, or two windows, wrote at once: the two ways out, as buttons beside what happened.
  conflict(problem, mine, theirs, words) {
    Meadowrun.say(problem.message);
    const note = document.getElementById('said');
    const [first, second] = words || [
      Meadowrun.wording('Keep mine (theirs stays among the drafts)'),
      Meadowrun.wording('Open theirs (mine stays among the drafts)'),
    ];
    for (const [words, deed] of [
      [first, mine],
      [second, theirs],
    ]) {
      const button = Object.assign(document.createElement('button'), {
        type: 'button',
        className: 'btn btn-line btn-small ms-2',
        textContent: words,
      });
      button.addEventListener('click', deed);
      note.append(button);
    }
  },

  // Makes an earlier draft or version the newest again and goes where the answer leads: to it.
  restore: (base, number) =>
    Meadowrun.part(`${base}/restore/${number}`, {
      method: 'POST',
      headers: {'X-CSRFToken': Meadowrun.csrf(), Accept: 'text/html'},
    }),

  // Shows a problem at the top of the page, or takes it away.
  say(message, kind) {
    let note = document.getElementById('said');
    if (!message) {
      if (note) note.remove();
      return;
    }
    if (!note) {
      note = document.createElement('p');
      note.id = 'said';
      note.setAttribute('role', 'alert');
      document.getElementById('main').prepend(note);
    }
    note.className = 'note ' + (kind || 'bad');
    note.textContent = message;
  },

  // A copy of a template of the page, to be filled in.
  sheet: (id) => document.getElementById(id).content.cloneNode(true),

  // One thing to choose in a small sheet, with a quieter note behind its words.
  choice(name, value, words, note) {
    const made = Object.assign(document.createElement('button'), {
      className: 'choice',
      name,
      value,
      textContent: words,
    });
    if (note)
      made.append(Object.assign(document.createElement('small'), {textContent: ` ${note}`}));
    return made;
  },

  // Fills a select with [value, words] and chooses one.
  fillSelect(select, options, chosen) {
    select.append(...options.map(([value, words]) => new Option(words, value)));
    if (chosen !== undefined) select.value = chosen;
  },

  // A small sheet that opens under a word and closes with Escape or a click elsewhere. It holds a
  // copy of a template, or what the server has drawn.
  pop(under, content, onSubmit) {
    Meadowrun.closePop();
    const sheet = document.createElement('form');
    sheet.className = 'pop';
    if (typeof content === 'string') sheet.innerHTML = content;
    else sheet.append(content);
    sheet.noValidate = true;
    document.body.append(sheet);
    // One that is longer than the window scrolls inside.
    sheet.style.maxHeight = innerHeight - 16 + 'px';
    const box = under.getBoundingClientRect();
    const left = Math.max(8, Math.min(box.left + scrollX, innerWidth - sheet.offsetWidth - 12));
    let top = box.bottom + scrollY + 4;
    if (box.bottom + sheet.offsetHeight + 8 > innerHeight && box.top > sheet.offsetHeight)
      top = box.top + scrollY - sheet.offsetHeight - 4;
    top = Math.max(scrollY + 8, Math.min(top, scrollY + innerHeight - sheet.offsetHeight - 8));
    sheet.style.left = left + 'px';
    sheet.style.top = top + 'px';
    sheet.under = under;
    sheet.addEventListener('submit', (event) => {
      event.preventDefault();
      onSubmit(new FormData(sheet, event.submitter), sheet);
    });
    sheet.addEventListener('input', (event) => {
      if (event.target.matches('[data-narrow]')) Meadowrun.narrow(sheet, event.target.value);
    });
    sheet.addEventListener('keydown', (event) => {
      if (event.key === 'ArrowDown' || event.key === 'ArrowUp') {
        const all = [...sheet.querySelectorAll('.choice')].filter((c) => !c.hidden);
        if (!all.length || event.target.type === 'number' || event.target.type === 'date') return;
        const at = all.indexOf(document.activeElement);
        const next =
          at < 0 && sheet.first ? sheet.first : all[at + (event.key === 'ArrowDown' ? 1 : -1)];
        if (next) {
          next.focus();
          event.preventDefault();
        }
      }
      if (event.key === 'Enter' && event.target.matches('[data-narrow]')) {
        event.preventDefault();
        const take = () => {
          if (sheet.first) sheet.first.click();
          else if (sheet.isConnected) sheet.requestSubmit();
        };
        if (sheet.coming) sheet.coming.then(take);
        else take();
      }
    });
    const first = sheet.querySelector(
      '[autofocus], input:not([type=hidden]), select, button.choice, textarea',
    );
    if (first) {
      first.focus();
      if (first.select && first.type !== 'checkbox' && first.type !== 'radio') first.select();
    }
    Meadowrun.mark(sheet);
    return sheet;
  },

  // Marks the choice that Enter takes while one types: the first. While an answer to the newest
  // words is on its way (`coming`), none: what Enter takes hangs on the words alone, never on how
  // fast they were typed.
  mark(sheet) {
    if (!sheet.querySelector('[data-narrow]')) return;
    if (sheet.first) sheet.first.classList.remove('first');
    sheet.first = sheet.coming
      ? null
      : [...sheet.querySelectorAll('button.choice')].find((c) => !c.hidden);
    if (sheet.first) sheet.first.classList.add('first');
  },

  narrow(sheet, words) {
    const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
    sheet.querySelectorAll('.choice').forEach((choice) => {
      const text = choice.textContent.toLowerCase();
      choice.hidden = !wanted.every((word) => text.includes(word));
    });
    sheet.querySelectorAll('.choices h3').forEach((head) => {
      let next = head.nextElementSibling,
        any = false;
      while (next && next.tagName !== 'H3') {
        any = any || !next.hidden;
        next = next.nextElementSibling;
      }
      head.hidden = !any;
    });
    Meadowrun.mark(sheet);
  },

  // A sheet to find a person in by a part of their name or address; `take` gets their number.
  findPerson(under, base, take) {
    const sheet = Meadowrun.pop(under, Meadowrun.sheet('sheet-person'), (form) => {
      if (!form.get('person')) return;
      Meadowrun.closePop();
      take(form.get('person'));
    });
    const input = sheet.querySelector('input');
    const find = async () => {
      const typed = input.value;
      const answer = await Meadowrun.asked(`${base}/people`, {q: typed});
      // Answers may overtake each other; only that to the newest words counts.
      if (!answer || typed !== input.value) return;
      sheet
        .querySelector('.choices')
        .replaceChildren(
          ...answer.people.map((p) => Meadowrun.choice('person', p.id, p.name, p.note)),
        );
    };
    input.addEventListener('input', find);
    find();
  },

  // The head of a reading side: stepping through people and choosing one. `now` gives the person
  // read as, `take` gets another.
  readAs(base, now, take) {
    const next = async (from, go) => {
      const segment = document.getElementById('through').value;
      const address = `${base}/people?go=${go}&from=${from}&segment=${segment}`;
      const answer = await Meadowrun.data(address);
      if (answer?.id) take(String(answer.id));
    };
    document.getElementById('back').addEventListener('click', () => next(now(), 'back'));
    document.getElementById('forward').addEventListener('click', () => next(now(), 'on'));
    document.getElementById('through').addEventListener('change', () => next('0', 'on'));
    document
      .getElementById('read-as')
      .addEventListener('click', (event) => Meadowrun.findPerson(event.target, base, take));
  },

  // Closes the small sheet. What it was to do when left (`whenLeft`) is done unless something was
  // chosen in it.
  closePop(refocus, chosen) {
    const open = document.querySelector('.pop');
    if (!open) return;
    const under = open.under;
    // A field or button of the sheet called “remove” would stand in the way of open.remove().
    Element.prototype.remove.call(open);
    if (open.whenLeft && !chosen) open.whenLeft();
    if (refocus && under && under.isConnected) under.focus();
  },
};
window.Meadowrun = Meadowrun;
