// The coloured words of a message: fields, facts and conditions, put in by @, # and ?, and changed
// by a click.
Meadowrun.words = (base, who, changed) => {
  let known = null;
  const load = async () => {
    known =
      known ||
      (await (await fetch(base + '/fills', {headers: {Accept: 'application/json'}})).json());
    return known;
  };
  const safe = (text) => (text || '').replace(/["{}\\%]/g, '');
  const escaped = (text) =>
    String(text).replace(
      /[&<>"]/g,
      (c) => ({'&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;'})[c],
    );

  function chipOf(source, words, kind) {
    const chip = document.createElement('span');
    chip.className = kind ? 'fill ' + kind : 'fill';
    chip.contentEditable = 'false';
    chip.dataset.fill = source;
    chip.textContent = words;
    return chip;
  }

  function fieldChip(ref, label, fallback, format) {
    const source =
      '{{ ' +
      ref +
      (format ? ' | ' + format : '') +
      (fallback ? ' | default("' + fallback + '", true)' : '') +
      ' }}';
    const chip = chipOf(
      source,
      label + (fallback ? ', or “' + fallback + '”' : ''),
      ref.startsWith('fact.') ? 'fact' : '',
    );
    Object.assign(chip.dataset, {ref, fallback, format: format || '', label});
    return chip;
  }

  function formats(chosen) {
    return (
      '<label class="form-label mb-0" for="ff">written</label><select class="form-select form-select-sm" id="ff" name="format"><option value="">as it is</option>' +
      Object.entries(known.formats)
        .map(
          ([key, words]) =>
            `<option value="${key}"${key === chosen ? ' selected' : ''}>${escaped(words)}</option>`,
        )
        .join('') +
      '</select>'
    );
  }

  // Puts a chip where the caret was, taking away the sign that called for it.
  function insert(place, range, chip, typed) {
    place.focus();
    if (range) {
      if (typed && range.startOffset > 0 && range.startContainer.nodeType === 3) {
        range.setStart(range.startContainer, range.startOffset - 1);
        range.deleteContents();
      }
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
    Meadowrun.closePop();
    changed(place);
  }

  async function offer(place, sign, typed = true) {
    await load();
    const selection = getSelection();
    const range =
      selection.rangeCount && place.contains(selection.anchorNode)
        ? selection.getRangeAt(0).cloneRange()
        : null;
    if (sign === '?') {
      // Chosen words are what some read; a coloured word among them would lose its meaning in that.
      const words =
        range && !range.collapsed && !range.cloneContents().querySelector('[data-fill]')
          ? range.toString().trim()
          : '';
      const take = (chip) => {
        if (words) range.deleteContents();
        insert(place, range, chip, typed && !words);
      };
      ask(place, place, null, take, words ? {ref: '', value: '', then: words, other: ''} : null);
      return;
    }
    const items = sign === '#' ? known.facts : known.fields;
    const box = document.createElement('div');
    box.innerHTML =
      '<input class="form-control form-control-sm" type="search" data-narrow aria-label="Narrow" autocomplete="off" placeholder="Type to filter"><div class="choices"></div>' +
      (sign === '@'
        ? '<label class="form-label mb-0" for="fb">and where it is blank</label><input class="form-control form-control-sm" id="fb" name="fallback" placeholder="friend">'
        : '') +
      formats('');
    for (const item of items) {
      const choice = document.createElement('button');
      choice.className = 'choice';
      choice.name = 'ref';
      choice.value = item.ref;
      choice.textContent = item.label + (item.value ? ' · ' + item.value : '');
      box.querySelector('.choices').append(choice);
    }
    if (!items.length)
      box.querySelector('.choices').textContent = 'The campaign of this message has no facts yet.';
    Meadowrun.pop(place, box.innerHTML, (form) => {
      const item = items.find((i) => i.ref === form.get('ref'));
      if (item)
        insert(
          place,
          range,
          fieldChip(item.ref, item.label, safe(form.get('fallback')), form.get('format')),
          typed,
        );
    });
  }

  // Words only for some: those whose field is something, or those whom sentences describe; and what
  // everyone else reads.
  function ask(under, place, chip, take, given) {
    const now =
      given ||
      (chip
        ? {
            ref: chip.dataset.if,
            value: chip.dataset.is,
            then: chip.dataset.then,
            other: chip.dataset.other,
          }
        : {ref: '', value: '', then: '', other: ''});
    const said = now.ref.startsWith('when.');
    const fields = known.fields.filter((f) => /^(contact|company)\./.test(f.ref));
    const whose = said
      ? `<div>Those <button type="button" class="word" data-who>${escaped(now.value)}</button></div>`
      : '<label class="form-label mb-0" for="ci">People whose</label><select class="form-select form-select-sm" id="ci" name="ref">' +
        fields
          .map(
            (f) =>
              `<option value="${f.ref}"${f.ref === now.ref ? ' selected' : ''}>${escaped(f.label)}</option>`,
          )
          .join('') +
        `</select><label class="form-label mb-0" for="cv">is</label><input class="form-control form-control-sm" id="cv" name="value" value="${escaped(now.value)}" placeholder="the value">` +
        '<div><button type="button" class="link" data-who>or describe them as in a segment …</button></div>';
    const sheet = Meadowrun.pop(
      under,
      whose +
        `<label class="form-label mb-0" for="ct">read</label><input class="form-control form-control-sm" id="ct" name="then" value="${escaped(now.then)}">` +
        `<label class="form-label mb-0" for="co">everyone else sees</label><input class="form-control form-control-sm" id="co" name="other" value="${escaped(now.other)}" placeholder="nothing">` +
        (document.getElementById('add-line')
          ? '<p class="quiet mb-0">For whole lines, add a line “Only if”.</p>'
          : '') +
        '<div class="doing"><button class="btn btn-primary btn-sm">Apply</button>' +
        (chip
          ? '<button class="btn btn-line btn-sm" name="remove" value="1">Remove</button>'
          : '') +
        '</div>',
      (form) => {
        if (form.get('remove')) {
          chip.remove();
          Meadowrun.closePop();
          changed(place);
          return;
        }
        const [then, other] = ['then', 'other'].map((k) => safe(form.get(k)));
        const [ref, value] = said
          ? [now.ref, now.value]
          : [form.get('ref'), safe(form.get('value'))];
        if (!value || !then) {
          document.getElementById(value ? 'ct' : 'cv').focus();
          return;
        }
        const written = (text) => ('rich' in place.dataset ? escaped(text) : text);
        const source = `{% if ${ref}${said ? '' : ` == "${value}"`} %}${written(then)}{% else %}${written(other)}{% endif %}`;
        const made = chipOf(
          source,
          `${then} (${said ? 'those' : 'if'} ${value})` + (other ? `, else ${other}` : ''),
          'only',
        );
        Object.assign(made.dataset, {if: ref, is: value, then, other});
        take(made);
      },
    );
    sheet.querySelector('[data-who]').addEventListener('click', async () => {
      const [then, other] = ['#ct', '#co'].map((field) => sheet.querySelector(field).value);
      const before = said
        ? (
            await (
              await fetch('/messages/conditions/' + now.ref.slice(5), {
                headers: {Accept: 'application/json'},
              })
            ).json()
          ).lines
        : [];
      Meadowrun.closePop();
      await who(before || [], null, async (lines) => {
        try {
          const answer = await Meadowrun.post('/messages/conditions', {lines});
          Meadowrun.say('');
          ask(under, place, chip, take, {
            ref: 'when.' + answer.key,
            value: answer.said,
            then,
            other,
          });
          return true;
        } catch (problem) {
          Meadowrun.say(problem.message);
          return false;
        }
      });
    });
  }

  async function change(chip) {
    await load();
    const place = chip.closest('.ink');
    if (chip.dataset.if) {
      ask(chip, place, chip, (made) => {
        chip.replaceWith(made);
        Meadowrun.closePop();
        changed(place);
      });
      return;
    }
    const bare = chip.dataset.ref === undefined;
    Meadowrun.pop(
      chip,
      (bare
        ? `<p class="quiet mb-0"><code>${escaped(chip.dataset.fill)}</code></p>`
        : '<label class="form-label mb-0" for="fb">Where it is blank, people see</label><input class="form-control form-control-sm" id="fb" name="fallback">' +
          formats(chip.dataset.format)) +
        '<div class="doing">' +
        (bare ? '' : '<button class="btn btn-primary btn-sm">Apply</button>') +
        '<button class="btn btn-line btn-sm" name="remove" value="1">Remove</button></div>',
      (form) => {
        if (form.get('remove')) chip.remove();
        else
          chip.replaceWith(
            fieldChip(
              chip.dataset.ref,
              chip.dataset.label || chip.textContent.split(', or “')[0],
              safe(form.get('fallback')),
              form.get('format'),
            ),
          );
        Meadowrun.closePop();
        changed(place);
      },
    );
    if (!bare) document.getElementById('fb').value = chip.dataset.fallback;
  }

  // The text of an editable place, with its coloured words as fill-ins again.
  function textOf(place) {
    const copy = place.cloneNode(true);
    copy.querySelectorAll('[data-fill]').forEach((chip) => chip.replaceWith(chip.dataset.fill));
    copy.innerHTML = copy.innerHTML.replace(/\u200b/g, '');
    if ('multi' in place.dataset)
      return copy.textContent
        .replace(/\u00a0/g, ' ')
        .replace(/[ \t]+$/gm, '')
        .replace(/\n+$/, '');
    if (!('rich' in place.dataset))
      return copy.textContent
        .replace(/\u00a0/g, ' ')
        .replace(/\s+/g, ' ')
        .trim();
    copy.querySelectorAll('div').forEach((div) => {
      const p = document.createElement('p');
      p.innerHTML = div.innerHTML;
      div.replaceWith(p);
    });
    copy.querySelectorAll('font[color]').forEach((font) => {
      const span = document.createElement('span');
      span.style.color = font.color;
      span.innerHTML = font.innerHTML;
      font.replaceWith(span);
    });
    let html = copy.innerHTML.replace(/&nbsp;/g, ' ');
    if (html && !/^\s*<(p|ul|ol)/.test(html)) html = '<p>' + html + '</p>';
    return html || '<p></p>';
  }

  return {offer, change, textOf};
};
