// A long pick list is searched by typing: any select with many choices opens a list of ours, by
// name and by what is noted beside it.
(() => {
  const LONG = 12;
  let open = null;

  function close(refocus) {
    if (!open) return;
    const {list, select} = open;
    open = null;
    list.remove();
    if (refocus && select.isConnected) select.focus();
  }

  function options(select) {
    return [...select.options].map((option) => ({
      option,
      group: option.parentElement.tagName === 'OPTGROUP' ? option.parentElement.label : '',
      note: option.dataset.note || '',
    }));
  }

  function take(option) {
    const {select} = open;
    const changed = select.value !== option.value;
    select.value = option.value;
    close(true);
    if (changed)
      for (const kind of ['input', 'change'])
        select.dispatchEvent(new Event(kind, {bubbles: true}));
  }

  function draw(words) {
    const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
    const found = options(open.select).filter(({option, group, note}) => {
      const text = `${option.text} ${note} ${group}`.toLowerCase();
      return !option.disabled && wanted.every((word) => text.includes(word));
    });
    const rows = [];
    let group = '';
    for (const one of found) {
      if (one.group !== group) {
        group = one.group;
        rows.push(
          Object.assign(document.createElement('li'), {
            className: 'group',
            textContent: group,
            role: 'presentation',
          }),
        );
      }
      const row = Object.assign(document.createElement('li'), {
        textContent: one.option.text,
        role: 'option',
        id: `pick-${one.option.index}`,
      });
      if (one.note)
        row.append(Object.assign(document.createElement('small'), {textContent: ' ' + one.note}));
      row.option = one.option;
      rows.push(row);
    }
    if (!found.length)
      rows.push(
        Object.assign(document.createElement('li'), {
          className: 'group',
          textContent: Meadowrun.wording('No match.'),
          role: 'presentation',
        }),
      );
    open.rows.replaceChildren(...rows);
    const at = words
      ? rows.find((r) => r.option)
      : rows.find((r) => r.option && r.option.selected) || rows.find((r) => r.option);
    mark(at);
  }

  function mark(row) {
    open.rows
      .querySelectorAll('[aria-selected]')
      .forEach((r) => r.removeAttribute('aria-selected'));
    open.at = row || null;
    if (!row) {
      open.input.removeAttribute('aria-activedescendant');
      return;
    }
    row.setAttribute('aria-selected', 'true');
    open.input.setAttribute('aria-activedescendant', row.id);
    row.scrollIntoView({block: 'nearest'});
  }

  function show(select, first) {
    close();
    const list = Object.assign(document.createElement('div'), {className: 'pick'});
    const name =
      select.getAttribute('aria-label') ||
      (select.labels[0] ? select.labels[0].textContent.trim() : Meadowrun.wording('the choices'));
    const input = Object.assign(document.createElement('input'), {
      type: 'text',
      className: 'form-control form-control-sm',
      autocomplete: 'off',
      placeholder: Meadowrun.wording('Type to filter'),
    });
    const rows = Object.assign(document.createElement('ul'), {id: 'pick-rows'});
    rows.setAttribute('role', 'listbox');
    rows.setAttribute('aria-label', name);
    for (const [key, value] of [
      ['role', 'combobox'],
      ['aria-expanded', 'true'],
      ['aria-controls', 'pick-rows'],
      ['aria-label', Meadowrun.wording('Narrow: %(name)s', {name})],
    ])
      input.setAttribute(key, value);
    list.append(input, rows);
    // Beside the select in what it belongs to, so that a dialog or a small sheet it stands in stays
    // open and on top.
    (select.closest('dialog, .pop') || document.body).append(list);
    open = {list, input, rows, select, at: null};
    input.value = first;
    draw(first);
    const box = select.getBoundingClientRect();
    const below = innerHeight - box.bottom > list.offsetHeight + 8 || box.top < list.offsetHeight;
    list.style.minWidth = Math.max(box.width, 220) + 'px';
    // Inside something that moves its fixed parts, the place is counted from there.
    list.style.left = list.style.top = '0px';
    const from = list.getBoundingClientRect();
    list.style.left =
      Math.max(8, Math.min(box.left, innerWidth - list.offsetWidth - 12)) - from.left + 'px';
    list.style.top = (below ? box.bottom + 2 : box.top - list.offsetHeight - 2) - from.top + 'px';
    input.focus();
    if (open.at) open.at.scrollIntoView({block: 'nearest'});
    input.addEventListener('input', (event) => {
      event.stopPropagation();
      draw(input.value);
    });
    list.addEventListener('change', (event) => event.stopPropagation());
    list.addEventListener('mousedown', (event) => {
      event.stopPropagation();
      const row = event.target.closest('[role=option]');
      if (row) {
        event.preventDefault();
        take(row.option);
      }
    });
    list.addEventListener('keydown', (event) => {
      event.stopPropagation();
      const all = [...rows.querySelectorAll('[role=option]')];
      const at = all.indexOf(open.at);
      const next = {
        ArrowDown: at + 1,
        ArrowUp: at - 1,
        PageDown: Math.min(at + 8, all.length - 1),
        PageUp: Math.max(at - 8, 0),
      }[event.key];
      if (next !== undefined) {
        event.preventDefault();
        if (all[next]) mark(all[next]);
      } else if (event.key === 'Enter') {
        event.preventDefault();
        if (open.at) take(open.at.option);
      } else if (event.key === 'Escape') {
        event.preventDefault();
        close(true);
      } else if (event.key === 'Tab') close(true);
    });
  }

  const long = (element) =>
    element.matches &&
    element.matches('select:not([multiple])') &&
    !element.disabled &&
    element.options.length > LONG;
  document.addEventListener(
    'mousedown',
    (event) => {
      // A made-up event is a program's own way of choosing; it needs no list.
      if (event.isTrusted && event.button === 0 && long(event.target)) {
        event.preventDefault();
        event.target.focus();
        show(event.target, '');
        return;
      }
      if (open && !open.list.contains(event.target)) close();
    },
    {capture: true},
  );
  document.addEventListener(
    'keydown',
    (event) => {
      if (!long(event.target) || event.ctrlKey || event.metaKey) return;
      const typed = event.key.length === 1 && event.key !== ' ' ? event.key : '';
      if (typed || [' ', 'Enter', 'ArrowDown', 'ArrowUp'].includes(event.key)) {
        event.preventDefault();
        event.stopPropagation();
        show(event.target, typed);
      }
    },
    {capture: true},
  );
  addEventListener('resize', () => close());
  addEventListener(
    'scroll',
    (event) => {
      if (open && !open.list.contains(event.target)) close();
    },
    {capture: true},
  );
})();
