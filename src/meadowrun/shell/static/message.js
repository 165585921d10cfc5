// Write and read. The document lives here; each pause in typing saves it as the newest draft and
// renews the reading side.
(() => {
  const page = document.getElementById('message');
  const base = page.dataset.base;
  const ofPart = page.dataset.shared === '1';
  let doc = JSON.parse(page.dataset.document);
  let draft = Number(page.dataset.draft),
    version = Number(page.dataset.version);
  let person = page.dataset.person;
  let look = 'desktop';
  let waiting = null,
    dirty = false,
    here = '';
  let saving = Promise.resolve();
  const past = [JSON.stringify(doc)];
  let future = [];
  const lines = document.getElementById('lines');
  const frame = document.getElementById('read');
  const said = document.getElementById('saved');
  const who = Meadowrun.who();
  const words = Meadowrun.words(base, who, (place) =>
    set(place.dataset.line, place.dataset.slot, words.textOf(place)),
  );
  const tree = () => Meadowrun.tree(doc);
  const get = async (address) =>
    (await fetch(address, {headers: {Accept: 'application/json'}})).json();

  function set(line, slot, value) {
    if (slot === 'plain' || (slot === 'code' && !line)) delete doc.plain_of;
    if (line === 'settings') doc.settings[slot] = value;
    else if (line === 'in_app') {
      const path = slot.split('.'),
        last = path.pop();
      path.reduce((held, name) => held[name], doc.in_app)[last] = value;
    } else if (line && slot.startsWith('icon'))
      tree().find(line).line.icons[Number(slot.slice(4))].href = value;
    else if (line) {
      const place = tree().find(line);
      (place ? place.line : tree().caseOf(line).one)[slot] = value;
    } else doc[slot] = value;
    soon();
  }

  // From here until the answer, leaving the page asks first.
  function unsaved() {
    dirty = true;
    clearTimeout(waiting);
    said.textContent = (ofPart ? 'Version ' : 'Draft ') + draft + ' · writing …';
  }

  function soon() {
    unsaved();
    waiting = setTimeout(save, 450);
  }

  function save(redraw, step, apart) {
    unsaved();
    const sent = JSON.stringify(doc);
    saving = saving.then(async () => {
      try {
        const answer = await Meadowrun.post(base + '/save', {
          document: JSON.parse(sent),
          version,
          redraw: redraw === true,
          apart: apart === true,
        });
        draft = answer.draft;
        version = answer.version;
        if (JSON.stringify(doc) === sent) {
          dirty = false;
          doc = answer.document;
        }
        const now = JSON.stringify(answer.document);
        if (!step && past[past.length - 1] !== now) {
          past.push(now);
          future = [];
        }
        buttons();
        said.textContent = (ofPart ? 'Version ' : 'Draft ') + draft + ' · saved ' + answer.saved;
        document.getElementById('margin').innerHTML = answer.margin;
        Meadowrun.say('');
        if (answer.lines) drawn(answer.lines);
        await read();
      } catch (problem) {
        said.textContent = 'Not saved yet';
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
    const before = draft;
    await save(true, false, true);
    if (!dirty && theirs) await Meadowrun.restore(base, draft - 1);
    else if (draft === before) said.textContent = 'Not saved yet';
  }

  function drawn(html) {
    lines.innerHTML = html;
    if (here) lines.querySelector(`.line[data-id="${here}"]`)?.classList.add('here');
    const count = tree()
      .all()
      .reduce((n, [, held]) => n + held.length, 0);
    document.getElementById('how-many').textContent =
      count + (count === 1 ? ' line' : ' lines · move with Alt ↑ ↓');
    sortable();
  }

  function buttons() {
    document.getElementById('undo').disabled = past.length < 2;
    document.getElementById('redo').disabled = !future.length;
  }

  // The step now shown is the last of `past`; what was taken back waits in `future`.
  function step(from, to, least) {
    if (from.length < least) return;
    to.push(from.pop());
    doc = JSON.parse(past[past.length - 1]);
    save(true, true);
  }

  async function read() {
    const answer = await get(`${base}/read?as=${person}`);
    if (answer.error) return;
    document.getElementById('read-subject').textContent = answer.subject;
    document.getElementById('read-preheader').textContent = answer.preheader;
    document.getElementById('read-plain').textContent = answer.text;
    document.getElementById('read-as').textContent = answer.name;
    const proof = document.getElementById('p-as');
    if (proof) proof.value = answer.person || '';
    frame.src = `${base}/read.html?as=${person}&look=${encodeURIComponent(look)}&at=${draft}-${Date.now()}`;
  }

  // Selecting a line on either side selects it on the other. What stands in the frame never runs;
  // only its clicks are heard.
  function select(id, from, place) {
    here = id;
    lines.querySelectorAll('.line.here').forEach((l) => l.classList.remove('here'));
    const row = place || (id && lines.querySelector(`.line[data-id="${id}"]`));
    if (row) {
      row.classList.add('here');
      if (from === 'read') row.scrollIntoView({block: 'center'});
    }
    mark(from !== 'read');
  }

  function mark(scroll) {
    const inside = frame.contentDocument;
    if (!inside) return;
    inside.querySelectorAll('[data-here]').forEach((x) => {
      x.style.outline = '';
      delete x.dataset.here;
    });
    const shown = here && inside.querySelector('.ln-' + here);
    if (!shown) return;
    shown.dataset.here = '1';
    shown.style.outline = '2px solid #c98a1b';
    shown.style.outlineOffset = '-2px';
    if (scroll) shown.scrollIntoView({block: 'nearest'});
  }

  // A desk is wider than this half of the page: the mail is laid out at its own width and drawn
  // smaller.
  function fit(inside) {
    const box = document.getElementById('read-box');
    const room = box.clientWidth - 28,
      wanted = look === 'phone' ? 375 : Math.max(room, doc.settings.width + (doc.in_app ? 300 : 40));
    const scale = look === 'phone' ? 1 : room / wanted;
    frame.style.width = wanted + 'px';
    frame.style.height = '400px';
    frame.style.height =
      Math.max(400, Math.min(4000, inside.documentElement.scrollHeight + 4)) + 'px';
    frame.style.transform = scale < 1 ? `scale(${scale})` : '';
    frame.style.marginBottom = scale < 1 ? -frame.offsetHeight * (1 - scale) + 'px' : '';
    frame.style.marginRight = scale < 1 ? -wanted * (1 - scale) + 'px' : '';
  }

  frame.addEventListener('load', () => {
    const inside = frame.contentDocument;
    if (!inside || !inside.body) return;
    fit(inside);
    inside.addEventListener('click', (event) => {
      event.preventDefault();
      const shown = event.target.closest('[class*="ln-"]');
      const id =
        shown &&
        [...shown.classList]
          .find((c) => c.startsWith('ln-'))
          .slice(3)
          .split('-')[0];
      if (!id) return;
      select(id, 'read');
      const place = lines.querySelector(
        `.line[data-id="${id}"] .ink, .line[data-id="${id}"] input, .line[data-id="${id}"] button`,
      );
      if (place) place.focus({preventScroll: true});
    });
    mark(false);
  });

  const typed = (event) => {
    const place = event.target.closest('[data-slot]');
    if (!place) return;
    const {line, slot} = place.dataset;
    if (place.isContentEditable) {
      if (place.textContent.trim() === '' && !place.querySelector('[data-fill]'))
        place.dataset.empty = '';
      else delete place.dataset.empty;
      set(line, slot, words.textOf(place));
      if ('@#'.includes(event.data || ' ')) words.offer(place, event.data);
    } else if (place.type === 'checkbox') set(line, slot, place.checked);
    else if (place.dataset.number) {
      if (place.value !== '') set(line, slot, Number(place.value));
    } else set(line, slot, place.value);
    if ('redraw' in place.dataset) save(true);
  };
  lines.addEventListener('input', typed);

  const pictures = Meadowrun.pictures(
    page,
    lines,
    base,
    tree,
    (line) => doc.lines.unshift(line),
    save,
  );

  // A new line goes where it was asked for: at the end of a list, before a footer.
  async function add(button, into) {
    const types = JSON.parse(page.dataset.types);
    Meadowrun.pop(
      button,
      '<input class="form-control form-control-sm" type="search" data-narrow aria-label="Narrow" placeholder="Type to filter" autocomplete="off"><div class="choices">' +
        types
          .filter(
            ([key]) => !(key === 'columns' && /:c\d$/.test(into)) && !(key === 'shared' && ofPart),
          )
          .map(
            ([key, label]) => `<button class="choice" name="type" value="${key}">${label}</button>`,
          )
          .join('') +
        '</div>',
      async (form) => {
        if (!form.get('type')) return;
        const line = await get(`${base}/line/${form.get('type')}`);
        const list = tree().at(into);
        const footer = list.findIndex((l) => l.type === 'footer');
        if (line.type === 'only')
          line.cases.push({id: tree().fresh(), name: '', lines: [], group: '', content: []});
        if (footer >= 0 && line.type !== 'footer') list.splice(footer, 0, line);
        else list.push(line);
        Meadowrun.closePop();
        const from = document.activeElement;
        await save(true);
        select(line.id);
        settle(line.id, from);
      },
    );
  }

  // Puts the focus into a line that was drawn anew, unless its author has gone on to something else
  // meanwhile.
  function settle(id, from) {
    if (document.activeElement !== document.body && document.activeElement !== from) return;
    const place = lines.querySelector(`.line[data-id="${id}"] :is(.ink, input, select, button)`);
    if (place) place.focus();
  }

  async function move(id, how) {
    if (!tree().move(id, how)) return;
    const from = document.activeElement;
    await save(true);
    settle(id, from);
  }

  function sortable() {
    lines.querySelectorAll('[data-into]').forEach((list) =>
      window.Sortable.create(list, {
        group: 'lines',
        handle: '.what',
        animation: matchMedia('(prefers-reduced-motion: reduce)').matches ? 0 : 120,
        draggable: '.line[data-id]:not([data-id=""])',
        onEnd: (event) => {
          const rows = [...event.to.children].filter((r) =>
            r.matches('.line[data-id]:not([data-id=""])'),
          );
          if (!tree().put(event.item.dataset.id, event.to.dataset.into, rows.indexOf(event.item)))
            Meadowrun.say('Columns cannot stand inside columns; phones could not stack them.');
          save(true);
        },
      }),
    );
  }

  const does = {
    upload: (b) => pictures.upload(b.dataset.line),
    store: (b) => pictures.fromStore(b, b.dataset.line),
    add: (b) => add(b, b.dataset.into),
    ownPlain: async () => {
      doc.plain = (await get(base + '/plain')).text;
      delete doc.plain_of;
      save(true);
    },
    madePlain: () => {
      doc.plain = null;
      save(true);
    },
    again: () => {
      delete doc.plain_of;
      save(true);
    },
    version: (b) => {
      tree()
        .find(b.dataset.line)
        .line.cases.push({id: tree().fresh(), name: '', lines: [], group: '', content: []});
      save(true);
    },
    dropVersion: (b) => {
      const {line, index} = tree().caseOf(b.dataset.line);
      line.cases.splice(index, 1);
      save(true);
    },
    raise: (b) => {
      const {line, index} = tree().caseOf(b.dataset.line);
      if (index) line.cases.splice(index - 1, 0, line.cases.splice(index, 1)[0]);
      save(true);
    },
    who: (b) => whom(b.dataset.line),
    addInAppButton: () => {
      doc.in_app.buttons.push({
        label: '',
        act: doc.in_app.buttons.length ? 'later' : 'open',
        href: '',
        days: 7,
        event: '',
      });
      save(true);
    },
    dropInAppButton: (b) => {
      doc.in_app.buttons.splice(Number(b.dataset.at), 1);
      save(true);
    },
    icon: (b) => {
      tree().find(b.dataset.line).line.icons.push({icon: 'web', href: ''});
      save(true);
    },
    dropIcon: (b) => {
      tree().find(b.dataset.line).line.icons.splice(Number(b.dataset.at), 1);
      save(true);
    },
    newest: (b) => {
      tree().find(b.dataset.line).line.version = Number(b.dataset.at);
      save(true);
    },
    unpack: (b) => unpack(b.dataset.line),
    keep: (b) => saveAsPart(b, b.dataset.line),
    comment: (b) => comment(b, b.dataset.line),
    help: (b) => help(b, b.dataset.line, b.dataset.slot),
  };

  document.getElementById('add-line')?.addEventListener('click', (event) => add(event.target, ''));
  lines.addEventListener('mousedown', (event) => {
    if (event.target.closest('.ink-tools button')) event.preventDefault();
  });
  lines.addEventListener('click', (event) => {
    const chip = event.target.closest('[data-fill]');
    if (chip) {
      words.change(chip);
      return;
    }
    const button = event.target.closest('button');
    if (!button) return;
    if (button.dataset.move) move(button.dataset.line, button.dataset.move);
    else if (button.dataset.insert)
      words.offer(button.closest('.line').querySelector('.ink'), button.dataset.insert, false);
    else if (button.dataset.format) format(button);
    else if (button.dataset.do) does[button.dataset.do](button);
  });

  lines.addEventListener('change', (event) => {
    const place = event.target;
    // Not every browser tells of a choice as input.
    if (place.matches('select[data-slot]')) typed(event);
    if (place.dataset.icon) {
      tree().find(place.dataset.line).line.icons[Number(place.dataset.icon)].icon = place.value;
      save(true);
    }
    if (place.dataset.columns) {
      const {line} = tree().find(place.dataset.columns);
      const split = place.value
        .split(/[^0-9.]+/)
        .map(Number)
        .filter((n) => n > 0)
        .slice(0, 4);
      if (!split.length) {
        place.value = line.split.join(' ');
        return;
      }
      while (line.columns.length < split.length) line.columns.push([]);
      // What stood in columns that are gone moves into the last one left.
      while (line.columns.length > split.length)
        line.columns[split.length - 1].push(...line.columns.splice(split.length, 1)[0]);
      line.split = split;
      save(true);
    }
    if (place.dataset.parted) {
      const {line} = tree().find(place.dataset.parted);
      line.grouping = Number(place.value);
      const groups = JSON.parse(place.selectedOptions[0].dataset.groups || '[]');
      line.cases = groups.length
        ? groups.map((p, n) => ({
            id: tree().fresh(),
            lines: [],
            name: p.name,
            group: p.key,
            content: (line.cases[n] || {}).content || [],
          }))
        : line.cases.map((c) => ({...c, group: ''}));
      save(true);
    }
    if (place.dataset.shared) {
      const {line} = tree().find(place.dataset.shared);
      [line.part, line.version] = place.value.split(':').map(Number);
      save(true);
    }
  });

  function whom(id) {
    const {one} = tree().caseOf(id);
    who(one.lines, one.name, (asked, name) => {
      Object.assign(tree().caseOf(id).one, {lines: asked, name});
      save(true);
    });
  }

  async function unpack(id) {
    const place = tree().find(id);
    const answer = await get(`/messages/shared/${place.line.part}/${place.line.version}`);
    place.lines.splice(place.index, 1, ...answer.lines.map((l) => tree().copied(l)));
    save(true);
  }

  function saveAsPart(button, id) {
    Meadowrun.pop(
      button,
      '<label class="form-label mb-0" for="kn">Save this line as a shared part called</label><input class="form-control form-control-sm" id="kn" name="name"><div class="doing"><button class="btn btn-primary btn-sm">Save</button></div>',
      async (form) => {
        try {
          const place = tree().find(id);
          const answer = await Meadowrun.post('/messages/shared', {
            name: form.get('name'),
            lines: [place.line],
          });
          const line = await get(base + '/line/shared');
          place.lines.splice(place.index, 1, {...line, part: answer.part, version: answer.version});
          Meadowrun.closePop();
          save(true);
        } catch (problem) {
          Meadowrun.say(problem.message);
        }
      },
    );
  }

  function comment(button, id) {
    Meadowrun.pop(
      button,
      '<label class="form-label mb-0" for="cm">Comment on this line</label><textarea class="form-control form-control-sm" id="cm" name="text" rows="3"></textarea><div class="doing"><button class="btn btn-primary btn-sm">Comment</button></div>',
      async (form) => {
        try {
          await Meadowrun.post(base + '/comments', {line: id, text: form.get('text')});
          Meadowrun.closePop();
          save(true);
        } catch (problem) {
          Meadowrun.say(problem.message);
        }
      },
    );
  }

  function help(button, line, slot) {
    Meadowrun.suggest(button, base, line, slot, (text) => {
      const place = line ? tree().find(line).line : doc;
      place[slot] =
        slot === 'html' ? place.html.replace(/<p><\/p>$/, '') + '<p>' + text + '</p>' : text;
      save(true).then(() => {
        const target = lines.querySelector(`[data-line="${line}"][data-slot="${slot}"]`);
        if (target) target.focus();
      });
    });
  }

  function format(button) {
    const place = button.closest('.line').querySelector('.ink');
    place.focus();
    const range = getSelection().rangeCount ? getSelection().getRangeAt(0).cloneRange() : null;
    const again = () => {
      place.focus();
      if (range) {
        getSelection().removeAllRanges();
        getSelection().addRange(range);
      }
    };
    const done = () => {
      Meadowrun.closePop();
      set(place.dataset.line, place.dataset.slot, words.textOf(place));
    };
    if (button.dataset.format === 'link') {
      Meadowrun.pop(
        button,
        '<label class="form-label mb-0" for="ln">Link for these words</label><input class="form-control form-control-sm" id="ln" name="to" placeholder="https://…"><div class="doing"><button class="btn btn-primary btn-sm">Add link</button></div>',
        (form) => {
          again();
          document.execCommand(form.get('to') ? 'createLink' : 'unlink', false, form.get('to'));
          done();
        },
      );
    } else if (button.dataset.format === 'colour') {
      Meadowrun.pop(
        button,
        `<label class="form-label mb-0" for="fc">Colour of these words</label><input type="color" id="fc" name="colour" value="${doc.settings.accent}"><div class="doing"><button class="btn btn-primary btn-sm">Apply</button></div>`,
        (form) => {
          again();
          document.execCommand('foreColor', false, form.get('colour'));
          done();
        },
      );
    } else {
      document.execCommand(button.dataset.format);
      done();
    }
  }

  lines.addEventListener('keydown', (event) => {
    const row = event.target.closest('.line[data-id]');
    if (
      event.altKey &&
      (event.key === 'ArrowUp' || event.key === 'ArrowDown') &&
      row &&
      row.dataset.id
    ) {
      event.preventDefault();
      move(row.dataset.id, event.key === 'ArrowUp' ? 'up' : 'down');
    }
    if (event.key === 'Enter' && event.target.matches('.ink:not([data-rich])'))
      event.preventDefault();
  });
  // What a line shows only while it is selected would move the page under a pressed pointer: it
  // waits for the click's end.
  let pressed = false;
  const selected = (event) => {
    const row = event.target.closest('.line');
    if (row && !row.classList.contains('here')) select(row.dataset.id, '', row);
  };
  lines.addEventListener('pointerdown', () => {
    pressed = true;
  });
  document.addEventListener('pointerup', () =>
    setTimeout(() => {
      pressed = false;
    }),
  );
  lines.addEventListener('focusin', (event) => {
    if (!pressed) selected(event);
  });
  lines.addEventListener('click', selected);

  document.getElementById('undo').addEventListener('click', () => step(past, future, 2));
  document.getElementById('redo').addEventListener('click', () => step(future, past, 1));
  document.addEventListener('keydown', (event) => {
    if (
      !(event.ctrlKey || event.metaKey) ||
      event.key.toLowerCase() !== 'z' ||
      event.target.closest('input, textarea, [contenteditable]')
    )
      return;
    event.preventDefault();
    document.getElementById(event.shiftKey ? 'redo' : 'undo').click();
  });

  document.getElementById('margin').addEventListener('click', (event) => {
    const button = event.target.closest('[data-goto], [data-as]');
    if (button?.dataset.as) {
      person = button.dataset.as;
      read();
    } else if (button) goTo(button.dataset.goto);
  });

  // Where a finding leads.
  function goTo(where) {
    const [line, slot] = where.split(':');
    const place =
      slot === 'add'
        ? document.getElementById('add-line')
        : lines.querySelector(`[data-line="${line}"][data-slot="${slot}"]`) ||
          lines.querySelector(
            `.line[data-id="${line}"] .ink, .line[data-id="${line}"] button, [data-line="${line}"]`,
          );
    if (place) {
      const closed = place.closest('details');
      if (closed) closed.open = true;
      place.scrollIntoView({block: 'center'});
      place.focus();
    }
  }

  function show(name) {
    look = name;
    page
      .querySelectorAll('[data-look]')
      .forEach((b) => b.setAttribute('aria-pressed', String(b.dataset.look === name)));
    document.getElementById('read-box').className = 'read-as ' + (name === 'phone' ? 'phone' : '');
    frame.hidden = name === 'plain';
    document.getElementById('read-plain').hidden = name !== 'plain';
    read();
  }
  page
    .querySelectorAll('[data-look]')
    .forEach((button) => button.addEventListener('click', () => show(button.dataset.look)));
  document
    .getElementById('reader')
    ?.addEventListener('change', (event) => show(event.target.value || 'desktop'));

  Meadowrun.readAs(
    base,
    () => person,
    (id) => {
      person = id;
      read();
    },
  );

  window.addEventListener('beforeunload', (event) => {
    if (dirty) event.preventDefault();
  });
  buttons();
  sortable();
  read();
  const finding = new URLSearchParams(location.search).get('goto');
  if (finding) goTo(finding);
})();
