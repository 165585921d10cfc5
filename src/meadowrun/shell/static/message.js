// Write and read. The document lives here; each pause in typing saves it as the newest draft and renews the reading side.
(() => {
  const page = document.getElementById('message');
  const id = page.dataset.id;
  const base = '/messages/' + id;
  let doc = JSON.parse(page.dataset.document);
  let draft = Number(page.dataset.draft);
  let person = page.dataset.person;
  let look = 'desk';
  let fills = null;
  let waiting = null;
  let saving = Promise.resolve();
  let dirty = false;
  const past = [JSON.stringify(doc)];
  const byId = (line) => doc.lines.find((l) => l.id === line);
  const lines = document.getElementById('lines');

  // The text of an editable place, with its coloured words as fill-ins again.
  function textOf(place) {
    const copy = place.cloneNode(true);
    copy.querySelectorAll('[data-fill]').forEach((chip) => chip.replaceWith(chip.dataset.fill));
    if (!('rich' in place.dataset)) return copy.textContent.replace(/\u00a0/g, ' ').replace(/\s+/g, ' ').trim();
    copy.querySelectorAll('div').forEach((div) => { const p = document.createElement('p'); p.innerHTML = div.innerHTML; div.replaceWith(p); });
    let html = copy.innerHTML.replace(/&nbsp;/g, ' ');
    if (html && !/^\s*<(p|ul|ol)/.test(html)) html = '<p>' + html + '</p>';
    return html || '<p></p>';
  }

  function set(line, slot, value) {
    if (line) byId(line)[slot] = value; else doc[slot] = value;
    soon();
  }

  function soon(delay) {
    dirty = true;
    clearTimeout(waiting);
    document.getElementById('saved').textContent = 'Draft ' + draft + ' · writing …';
    waiting = setTimeout(save, delay === undefined ? 450 : delay);
  }

  function save(redraw) {
    clearTimeout(waiting);
    const sent = JSON.stringify(doc);
    saving = saving.then(async () => {
      try {
        const answer = await Meadowrun.post(base + '/save', {document: JSON.parse(sent), draft, redraw: redraw === true});
        draft = answer.draft;
        if (JSON.stringify(doc) === sent) { dirty = false; doc = answer.document; }
        if (past[past.length - 1] !== sent) past.push(sent);
        document.getElementById('undo').disabled = past.length < 2;
        document.getElementById('saved').textContent = 'Draft ' + draft + ' · saved ' + answer.saved;
        document.getElementById('margin').innerHTML = answer.margin;
        Meadowrun.say('');
        if (answer.lines) { lines.innerHTML = answer.lines; count(); }
        await read();
      } catch (problem) {
        document.getElementById('saved').textContent = 'Not saved yet';
        Meadowrun.say(problem.message);
      }
    });
    return saving;
  }

  function count() {
    page.querySelector('.half-head .quiet').textContent = doc.lines.length + ' lines · move with Alt ↑ ↓';
  }

  async function read() {
    const answer = await (await fetch(base + '/read?as=' + person, {headers: {Accept: 'application/json'}})).json();
    if (answer.error) return;
    document.getElementById('read-subject').textContent = answer.subject;
    document.getElementById('read-preheader').textContent = answer.preheader;
    document.getElementById('read-plain').textContent = answer.text;
    document.getElementById('read-as').textContent = answer.name;
    document.getElementById('p-as').value = answer.person || '';
    const frame = document.getElementById('read');
    frame.src = base + '/read.html?as=' + person + '&at=' + draft + '-' + Date.now();
  }

  lines.addEventListener('input', (event) => {
    const place = event.target.closest('[data-slot]');
    if (!place) return;
    if (place.isContentEditable) {
      if (place.textContent.trim() === '' && !place.querySelector('[data-fill]')) place.dataset.empty = ''; else delete place.dataset.empty;
      set(place.dataset.line, place.dataset.slot, textOf(place));
      if (event.data === '@' || event.data === '#') offer(place, event.data);
    } else if (place.type === 'checkbox') set(place.dataset.line, place.dataset.slot, place.checked);
    else set(place.dataset.line, place.dataset.slot, place.value);
  });

  // Pasting brings words, not somebody else's looks.
  lines.addEventListener('paste', (event) => {
    if (!event.target.closest('.ink')) return;
    event.preventDefault();
    document.execCommand('insertText', false, event.clipboardData.getData('text/plain'));
  });

  // The menu of fields or facts at the caret. `typed` is the sign that called it, to be taken away again.
  async function offer(place, sign, typed = true) {
    if (!fills) fills = await (await fetch(base + '/fills', {headers: {Accept: 'application/json'}})).json();
    const selection = getSelection();
    const range = selection.rangeCount && place.contains(selection.anchorNode) ? selection.getRangeAt(0).cloneRange() : null;
    const items = sign === '#' ? fills.facts : fills.fields;
    const box = document.createElement('div');
    box.innerHTML = '<input class="form-control form-control-sm" type="search" data-narrow aria-label="Narrow" autocomplete="off" placeholder="Type to narrow"><div class="choices"></div>' +
      (sign === '@' ? '<label class="form-label mb-0" for="fb">and where it is blank</label><input class="form-control form-control-sm" id="fb" name="fallback" placeholder="friend">' : '');
    for (const item of items) {
      const choice = document.createElement('button');
      choice.className = 'choice';
      choice.name = 'ref';
      choice.value = item.ref;
      choice.textContent = item.label + (item.value ? ' · ' + item.value : '');
      box.querySelector('.choices').append(choice);
    }
    if (!items.length) box.querySelector('.choices').textContent = 'The campaign of this message has no facts yet.';
    Meadowrun.pop(place, box.innerHTML, (form) => {
      const ref = form.get('ref');
      if (!ref) return;
      const item = items.find((i) => i.ref === ref);
      const fallback = (form.get('fallback') || '').replace(/["{}\\]/g, '');
      const chip = document.createElement('span');
      chip.className = sign === '#' ? 'fill fact' : 'fill';
      chip.contentEditable = 'false';
      chip.dataset.ref = ref;
      chip.dataset.fallback = fallback;
      chip.dataset.fill = '{{ ' + ref + (fallback ? ' | default("' + fallback + '", true)' : '') + ' }}';
      chip.textContent = item.label + (fallback ? ', or “' + fallback + '”' : '');
      place.focus();
      if (range) {
        if (typed && range.startOffset > 0 && range.startContainer.nodeType === 3) {
          range.setStart(range.startContainer, range.startOffset - 1);
          range.deleteContents();
        }
        range.insertNode(chip);
      } else place.append(chip);
      const after = document.createTextNode('\u00a0');
      chip.after(after);
      const caret = document.createRange();
      caret.setStart(after, 1);
      caret.collapse(true);
      getSelection().removeAllRanges();
      getSelection().addRange(caret);
      delete place.dataset.empty;
      Meadowrun.closePop();
      set(place.dataset.line, place.dataset.slot, textOf(place));
    });
  }

  // A click on a coloured word changes its fallback or takes it out.
  function changeChip(chip) {
    const place = chip.closest('.ink');
    Meadowrun.pop(chip, '<label class="form-label mb-0" for="fb">Where it is blank, people read</label><input class="form-control form-control-sm" id="fb" name="fallback"><div class="doing"><button class="btn btn-primary btn-sm">Take it</button><button class="btn btn-line btn-sm" name="remove" value="1">Take the word out</button></div>', (form) => {
      if (form.get('remove')) chip.remove();
      else {
        const fallback = (form.get('fallback') || '').replace(/["{}\\]/g, '');
        chip.dataset.fallback = fallback;
        chip.dataset.fill = '{{ ' + chip.dataset.ref + (fallback ? ' | default("' + fallback + '", true)' : '') + ' }}';
        chip.textContent = chip.textContent.split(', or “')[0] + (fallback ? ', or “' + fallback + '”' : '');
      }
      Meadowrun.closePop();
      set(place.dataset.line, place.dataset.slot, textOf(place));
    });
    document.getElementById('fb').value = chip.dataset.fallback;
  }

  function move(how, line) {
    const at = doc.lines.findIndex((l) => l.id === line);
    if (at < 0) return;
    if (how === 'remove') doc.lines.splice(at, 1);
    else if (how === 'copy') doc.lines.splice(at + 1, 0, {...doc.lines[at], id: Math.random().toString(16).slice(2, 10)});
    else {
      const to = at + (how === 'up' ? -1 : 1);
      if (to < 0 || to >= doc.lines.length) return;
      const [taken] = doc.lines.splice(at, 1);
      doc.lines.splice(to, 0, taken);
    }
    save(true).then(() => { const place = lines.querySelector(`.line[data-id="${line}"] .ink, .line[data-id="${line}"] input`); if (place) place.focus(); });
  }

  lines.addEventListener('mousedown', (event) => { if (event.target.closest('.ink-tools button')) event.preventDefault(); });
  lines.addEventListener('click', (event) => {
    const chip = event.target.closest('[data-fill]');
    if (chip) { changeChip(chip); return; }
    const button = event.target.closest('button');
    if (!button) return;
    if (button.dataset.move) move(button.dataset.move, button.dataset.line);
    else if (button.dataset.upload) upload(button.dataset.upload);
    else if (button.dataset.insert) offer(button.closest('.line').querySelector('.ink'), button.dataset.insert, false);
    else if (button.dataset.format) format(button);
    else if (button.id === 'own-plain') { doc.plain = document.getElementById('read-plain').dataset.source || plainStart(); save(true); }
    else if (button.id === 'made-plain') { doc.plain = null; save(true); }
  });

  function plainStart() {
    return doc.lines.map((l) => {
      const box = document.createElement('div');
      box.innerHTML = (l.html || '').replace(/<\/p>/g, '\n\n</p>').replace(/<br>/g, '\n');
      return {heading: l.text, text: box.textContent.trim(), footer: box.textContent.trim(), button: l.label ? l.label + ': ' + l.href : '', picture: l.alt, divider: '----'}[l.type] || '';
    }).filter(Boolean).join('\n\n');
  }

  function format(button) {
    const place = button.closest('.line').querySelector('.ink');
    place.focus();
    if (button.dataset.format !== 'link') { document.execCommand(button.dataset.format); place.dispatchEvent(new Event('input', {bubbles: true})); return; }
    const range = getSelection().rangeCount ? getSelection().getRangeAt(0).cloneRange() : null;
    Meadowrun.pop(button, '<label class="form-label mb-0" for="ln">These words lead to</label><input class="form-control form-control-sm" id="ln" name="to" placeholder="https://…"><div class="doing"><button class="btn btn-primary btn-sm">Make the link</button></div>', (form) => {
      place.focus();
      if (range) { getSelection().removeAllRanges(); getSelection().addRange(range); }
      if (form.get('to')) document.execCommand('createLink', false, form.get('to')); else document.execCommand('unlink');
      Meadowrun.closePop();
      set(place.dataset.line, place.dataset.slot, textOf(place));
    });
  }

  function upload(line) {
    const input = document.createElement('input');
    input.type = 'file';
    input.accept = 'image/png,image/jpeg,image/gif';
    input.hidden = true;
    input.id = 'picture-file';
    document.getElementById('picture-file')?.remove();
    page.append(input);
    input.addEventListener('change', async () => {
      const form = new FormData();
      form.set('file', input.files[0]);
      const response = await fetch('/files', {method: 'POST', body: form, headers: {Accept: 'application/json', 'X-CSRFToken': Meadowrun.csrf()}});
      const answer = await response.json();
      input.remove();
      if (!response.ok) { Meadowrun.say(answer.error); return; }
      byId(line).src = answer.src;
      save(true);
    });
    input.click();
  }

  document.getElementById('add-line').addEventListener('click', (event) => {
    const types = JSON.parse(event.target.dataset.types), keys = JSON.parse(event.target.dataset.keys);
    Meadowrun.pop(event.target, '<div class="choices">' + keys.map((k, i) => `<button class="choice" name="type" value="${k}">${types[i]}</button>`).join('') + '</div>', async (form) => {
      const line = await (await fetch(base + '/line/' + form.get('type'), {headers: {Accept: 'application/json'}})).json();
      const footer = doc.lines.findIndex((l) => l.type === 'footer');
      if (footer >= 0 && line.type !== 'footer') doc.lines.splice(footer, 0, line); else doc.lines.push(line);
      Meadowrun.closePop();
      await save(true);
      const place = lines.querySelector(`.line[data-id="${line.id}"] .ink, .line[data-id="${line.id}"] input`);
      if (place) place.focus();
    });
  });

  lines.addEventListener('keydown', (event) => {
    const row = event.target.closest('.line[data-id]');
    if (event.altKey && (event.key === 'ArrowUp' || event.key === 'ArrowDown') && row && row.dataset.id) {
      event.preventDefault();
      move(event.key === 'ArrowUp' ? 'up' : 'down', row.dataset.id);
    }
    if (event.key === 'Enter' && event.target.matches('.ink:not([data-rich])')) event.preventDefault();
  });
  lines.addEventListener('focusin', (event) => {
    lines.querySelectorAll('.line.here').forEach((l) => l.classList.remove('here'));
    const row = event.target.closest('.line');
    if (row) row.classList.add('here');
  });

  document.getElementById('undo').addEventListener('click', () => {
    if (past.length < 2) return;
    past.pop();
    doc = JSON.parse(past[past.length - 1]);
    save(true);
  });

  document.getElementById('margin').addEventListener('click', (event) => {
    const button = event.target.closest('[data-goto]');
    if (!button) return;
    const [line, slot] = button.dataset.goto.split(':');
    const place = slot === 'add' ? document.getElementById('add-line') : lines.querySelector(`[data-line="${line}"][data-slot="${slot}"]`) || lines.querySelector(`.line[data-id="${line}"] .ink, .line[data-id="${line}"] button`);
    if (place) { place.scrollIntoView({block: 'center'}); place.focus(); }
  });

  page.querySelectorAll('[data-look]').forEach((button) => button.addEventListener('click', () => {
    look = button.dataset.look;
    page.querySelectorAll('[data-look]').forEach((b) => b.setAttribute('aria-pressed', String(b === button)));
    document.getElementById('read-box').className = 'read-as ' + look;
    document.getElementById('read').hidden = look === 'plain';
    document.getElementById('read-plain').hidden = look !== 'plain';
  }));

  async function step(go) {
    const answer = await (await fetch(`${base}/people?go=${go}&from=${person}`, {headers: {Accept: 'application/json'}})).json();
    if (answer.id) { person = String(answer.id); read(); }
  }
  document.getElementById('back').addEventListener('click', () => step('back'));
  document.getElementById('forward').addEventListener('click', () => step('on'));
  document.getElementById('read-as').addEventListener('click', (event) => {
    const sheet = Meadowrun.pop(event.target, '<input class="form-control form-control-sm" type="search" aria-label="Part of a name or an address" placeholder="Part of a name or an address" autocomplete="off"><div class="choices"></div>', (form) => {
      if (!form.get('person')) return;
      person = form.get('person');
      Meadowrun.closePop();
      read();
    });
    const input = sheet.querySelector('input');
    const find = async () => {
      const words = input.value;
      const answer = await (await fetch(base + '/people?q=' + encodeURIComponent(words), {headers: {Accept: 'application/json'}})).json();
      // Answers may overtake each other; only that to the newest words counts.
      if (words !== input.value) return;
      const choices = sheet.querySelector('.choices');
      choices.replaceChildren(...answer.people.map((p) => {
        const choice = document.createElement('button');
        choice.className = 'choice';
        choice.name = 'person';
        choice.value = p.id;
        choice.textContent = p.name;
        const note = document.createElement('small');
        note.textContent = ' ' + p.note;
        choice.append(note);
        return choice;
      }));
    };
    input.addEventListener('input', find);
    find();
  });

  window.addEventListener('beforeunload', (event) => { if (dirty) event.preventDefault(); });
  document.getElementById('undo').disabled = true;
  read();
})();
