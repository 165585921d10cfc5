// The coloured words of a message: fields and facts, put in by @ and #, conditions, and what a click
// on them changes.
Meadowrun.words = (base, changed) => {
  let known = null;
  const load = async () => {
    known = known || (await Meadowrun.data(base + '/fills'));
    return known;
  };
  const safe = (text) => (text || '').replace(/["{}\\%]/g, '');
  const SIGNS = {'&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;'};
  const escaped = (text) => String(text).replace(/[&<>"]/g, (sign) => SIGNS[sign]);
  const quoted = (text) => (text ? `, or “${text}”` : '');

  function chipOf(source, words, kind) {
    const chip = document.createElement('span');
    chip.className = kind ? `fill ${kind}` : 'fill';
    chip.contentEditable = 'false';
    chip.dataset.fill = source;
    chip.textContent = words;
    return chip;
  }

  function fieldChip(ref, label, fallback, format) {
    const filters = [format, fallback && `default("${fallback}", true)`].filter(Boolean);
    const source = `{{ ${[ref, ...filters].join(' | ')} }}`;
    const chip = chipOf(source, label + quoted(fallback), ref.startsWith('fact.') ? 'fact' : '');
    Object.assign(chip.dataset, {ref, fallback, format: format || '', label});
    return chip;
  }

  function addFormats(sheet, chosen) {
    const select = sheet.querySelector('[name=format]');
    Meadowrun.fillSelect(select, Object.entries(known.formats), chosen || '');
  }

  // Puts a chip where the caret was, taking away the sign that called for it.
  function insert(place, range, chip) {
    place.focus();
    if (range) {
      range.deleteContents();
      range.insertNode(chip);
    } else place.append(chip);
    // Something of no width for the caret to stand behind; it is no part of the words.
    const after = document.createTextNode('\u200b');
    chip.after(after);
    const caret = document.createRange();
    caret.setStart(after, 1);
    caret.collapse(true);
    getSelection().removeAllRanges();
    getSelection().addRange(caret);
    delete place.dataset.empty;
    Meadowrun.closePop(false, true);
    changed(place);
  }

  function caretIn(place) {
    const selection = getSelection();
    const inside = selection.rangeCount && place.contains(selection.anchorNode);
    return inside ? selection.getRangeAt(0).cloneRange() : null;
  }

  // The sign before the caret that asks for a field or a fact, with what was typed behind it, as a
  // range. A sign within a word, as in an email address, asks for nothing.
  function signBefore(place, sign) {
    const range = caretIn(place);
    if (!range || range.startContainer.nodeType !== Node.TEXT_NODE) return null;
    const before = range.startContainer.data.slice(0, range.startOffset);
    const at = before.lastIndexOf(sign);
    if (at < 0 || /[\p{L}\p{N}._%+-]$/u.test(before.slice(0, at))) return null;
    range.setStart(range.startContainer, at);
    return range;
  }

  // What is typed while the fields are still on their way goes into the filter when they are there.
  function typedSign(place, sign) {
    if (!signBefore(place, sign)) return;
    const open = () => {
      const range = signBefore(place, sign);
      if (range) offerFields(place, range, sign, range.toString().slice(1));
    };
    if (known) open();
    else load().then((fields) => fields && open());
  }

  async function offer(place, sign) {
    if (!(await load())) return;
    const range = caretIn(place);
    if (sign === '?') offerCondition(place, range);
    else offerFields(place, range, sign);
  }

  function offerCondition(place, range) {
    // Chosen words are what some read; a coloured word among them would lose its meaning in that.
    const bare = range && !range.collapsed && !range.cloneContents().querySelector('[data-fill]');
    const words = bare ? range.toString().trim() : '';
    const take = (chip) => {
      if (range && !words) range.collapse(false);
      insert(place, range, chip);
    };
    ask(place, place, null, take, {ref: '', value: '', then: words, other: ''});
  }

  // `typed` is what stands behind a typed sign; it is undefined where a button asks.
  function offerFields(place, range, sign, typed) {
    const called = typed !== undefined;
    if (range && !called) range.collapse(false);
    const items = sign === '#' ? known.facts : known.fields;
    const sheet = Meadowrun.sheet('sheet-fill');
    const choices = sheet.querySelector('.choices');
    if (items.length)
      choices.replaceChildren(
        ...items.map((item) =>
          Meadowrun.choice('ref', item.ref, [item.label, item.value].filter(Boolean).join(' · ')),
        ),
      );
    // A fact is the same for everyone.
    if (sign === '#') sheet.querySelector('[data-fallback]').remove();
    addFormats(sheet);
    const open = Meadowrun.pop(place, sheet, (form) => {
      const item = items.find((one) => one.ref === form.get('ref'));
      if (!item) return;
      const fallback = safe(form.get('fallback'));
      insert(place, range, fieldChip(item.ref, item.label, fallback, form.get('format')));
    });
    if (called) filterIsText(open, place, range, typed);
  }

  // Somebody who types a sign may mean just that: what was typed into the filter goes back to the
  // text when the sheet closes without a choice, and a blank where nothing fits closes it.
  function filterIsText(sheet, place, range, typed) {
    const filter = sheet.querySelector('[data-narrow]');
    filter.value = typed;
    if (typed) Meadowrun.narrow(sheet, typed);
    sheet.whenLeft = () => {
      place.focus();
      // A plain blank at the end would be drawn as none, and taken away by what is typed next.
      const back = filter.value.slice(typed.length).replace(/ $/, '\u00a0');
      const after = document.createTextNode(back);
      range.collapse(false);
      range.insertNode(after);
      range.collapse(false);
      getSelection().removeAllRanges();
      getSelection().addRange(range);
      changed(place);
    };
    filter.addEventListener('input', () => {
      if (filter.value.endsWith(' ') && !sheet.first) Meadowrun.closePop();
    });
    filter.addEventListener('keydown', (event) => {
      if (event.key !== 'Backspace' || filter.value) return;
      event.preventDefault();
      Meadowrun.closePop();
    });
  }

  // Words only for some: those whose field is something, or those whom sentences describe; and what
  // everyone else reads.
  function ask(under, place, chip, take, now) {
    const said = now.ref.startsWith('when.');
    const content = Meadowrun.sheet('sheet-words');
    content.querySelector(said ? '[data-by-field]' : '[data-by-lines]').remove();
    if (!chip) content.querySelector('[name=remove]').remove();
    if (said) content.querySelector('[data-who]').textContent = now.value;
    else {
      const fields = known.fields.filter((f) => /^(contact|company)\./.test(f.ref));
      const select = content.querySelector('[name=ref]');
      Meadowrun.fillSelect(
        select,
        fields.map((f) => [f.ref, f.label]),
        now.ref || undefined,
      );
      content.querySelector('[name=value]').value = now.value;
    }
    content.querySelector('[name=then]').value = now.then;
    content.querySelector('[name=other]').value = now.other;
    const sheet = Meadowrun.pop(under, content, (form) => {
      if (form.get('remove')) removed(chip, place);
      else answered(form, now, said, place, take);
    });
    sheet
      .querySelector('[data-who]')
      .addEventListener('click', () =>
        describe(sheet, now, (given) => ask(under, place, chip, take, given)),
      );
  }

  function removed(chip, place) {
    chip.remove();
    Meadowrun.closePop();
    changed(place);
  }

  function answered(form, now, said, place, take) {
    const [then, other] = ['then', 'other'].map((name) => safe(form.get(name)));
    const [ref, value] = said ? [now.ref, now.value] : [form.get('ref'), safe(form.get('value'))];
    if (!value || !then) {
      document.getElementById(value ? 'ct' : 'cv').focus();
      return;
    }
    const written = (text) => ('rich' in place.dataset ? escaped(text) : text);
    const test = said ? ref : `${ref} == "${value}"`;
    const made = chipOf(
      `{% if ${test} %}${written(then)}{% else %}${written(other)}{% endif %}`,
      `${then} (${said ? 'those' : 'if'} ${value})${other ? `, else ${other}` : ''}`,
      'only',
    );
    Object.assign(made.dataset, {if: ref, is: value, then, other});
    take(made);
  }

  // Who reads some words, as lines of a segment; then their sheet opens again.
  async function describe(sheet, now, again) {
    const [then, other] = ['then', 'other'].map((name) => sheet.elements[name].value);
    const before = now.ref.startsWith('when.') ? await linesOf(now.ref.slice(5)) : [];
    if (!before) return;
    Meadowrun.closePop();
    Meadowrun.who(before, null, async (lines) => {
      try {
        const answer = await Meadowrun.post('/messages/conditions', {lines});
        Meadowrun.say('');
        again({ref: `when.${answer.key}`, value: answer.said, then, other});
        return true;
      } catch (problem) {
        Meadowrun.say(problem.message);
        return false;
      }
    });
  }

  async function linesOf(key) {
    const answer = await Meadowrun.data(`/messages/conditions/${key}`);
    return answer && (answer.lines || []);
  }

  async function change(chip) {
    if (!(await load())) return;
    const place = chip.closest('.ink');
    if (chip.dataset.if) changeCondition(chip, place);
    else changeField(chip, place);
  }

  function changeCondition(chip, place) {
    const {if: ref, is: value, then, other} = chip.dataset;
    const take = (made) => {
      chip.replaceWith(made);
      Meadowrun.closePop();
      changed(place);
    };
    ask(chip, place, chip, take, {ref, value, then, other});
  }

  function changeField(chip, place) {
    const {ref, label, fallback, format} = chip.dataset;
    const bare = ref === undefined;
    const sheet = Meadowrun.sheet(bare ? 'sheet-code' : 'sheet-field');
    if (bare) sheet.querySelector('code').textContent = chip.dataset.fill;
    else addFormats(sheet, format);
    const open = Meadowrun.pop(chip, sheet, (form) => {
      if (form.get('remove')) {
        removed(chip, place);
        return;
      }
      const called = label || chip.textContent.split(', or “')[0];
      chip.replaceWith(fieldChip(ref, called, safe(form.get('fallback')), form.get('format')));
      Meadowrun.closePop();
      changed(place);
    });
    if (!bare) open.elements.fallback.value = fallback;
  }

  // The text of an editable place, with its coloured words as fill-ins again.
  function textOf(place) {
    const copy = place.cloneNode(true);
    copy.querySelectorAll('[data-fill]').forEach((chip) => chip.replaceWith(chip.dataset.fill));
    copy.normalize();
    const plain = copy.textContent.replace(/\u200b/g, '').replace(/\u00a0/g, ' ');
    if ('multi' in place.dataset) return plain.replace(/[ \t]+$/gm, '').replace(/\n+$/, '');
    if (!('rich' in place.dataset)) return plain.replace(/\s+/g, ' ').trim();
    copy.querySelectorAll('div').forEach((div) => {
      const paragraph = document.createElement('p');
      paragraph.append(...div.childNodes);
      div.replaceWith(paragraph);
    });
    // What the caret stood behind is no part of the words.
    const html = copy.innerHTML.replace(/\u200b/g, '').replace(/&nbsp;/g, ' ');
    if (!html) return '<p></p>';
    return /^\s*<(p|ul|ol)/.test(html) ? html : `<p>${html}</p>`;
  }

  return {load, typedSign, offer, change, textOf};
};
