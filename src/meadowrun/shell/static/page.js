// What every page does: keys, questions before what cannot be undone, what a role may not do, parts
// that renew themselves.
document.addEventListener('keydown', (event) => {
  if (event.key === 'Escape') Meadowrun.closePop(true);
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k') {
    event.preventDefault();
    openFind();
  }
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 's') {
    event.preventDefault();
    saveHere();
  }
  const typing = event.target.closest('input, textarea, select, [contenteditable]');
  const list = document.getElementById('shortcuts');
  if (event.key === '?' && !typing && list && !document.querySelector('dialog[open]'))
    list.showModal();
});

// A form that was refused comes back with the caret in what is to be corrected.
document.addEventListener('DOMContentLoaded', () => {
  const {where} = document.getElementById('main').dataset;
  const fields = where ? document.getElementsByName(where) : [];
  const field = [...fields].find((one) => one.type !== 'hidden' && one.offsetParent);
  if (!field) return;
  field.classList.add('is-invalid');
  field.setAttribute('aria-invalid', 'true');
  field.focus();
});

// Ctrl+S: the sheet that is open, the page's own saving, or the form one writes in.
function saveHere() {
  const place =
    document.querySelector('.pop') || document.activeElement.closest('form[method=post]');
  const save = document.querySelector('#save:not([disabled])');
  if (place && place.matches('.pop')) place.requestSubmit();
  else if (Meadowrun.saveNow) Meadowrun.saveNow();
  else if (save) save.click();
  else if (place && !place.dataset.needs) place.requestSubmit();
}
// A finding is a button that breaks over lines like text.
document.addEventListener('keydown', (event) => {
  if ((event.key === 'Enter' || event.key === ' ') && event.target.matches('span[role=button]')) {
    event.preventDefault();
    event.target.click();
  }
});
document.addEventListener('mousedown', (event) => {
  const open = document.querySelector('.pop');
  if (open && !open.contains(event.target) && event.target !== open.under) Meadowrun.closePop();
});
document.addEventListener('click', (event) => {
  if (event.target.closest('[data-find]')) openFind();
  const sure = event.target.closest('[data-sure]');
  if (sure && !sure.said) {
    event.preventDefault();
    askFirst(sure);
  }
  const opens = event.target.closest('[data-dialog]');
  if (opens) document.getElementById(opens.dataset.dialog).showModal();
  if (event.target.closest('[data-close]')) event.target.closest('dialog').close();
});
document.addEventListener('change', (event) => {
  if (event.target.matches('[data-go]')) event.target.form.requestSubmit();
});

// What one's role does not reach is held, and says why. Forms are marked by the server; editors are
// an author's.
const RANKS = ['viewer', 'author', 'approver', 'admin'];
function hold(control, role) {
  const reason = Meadowrun.wording(
    'This needs the role “%(role)s”. An administrator can give it.',
    {role},
  );
  if (control.isContentEditable) {
    control.contentEditable = 'false';
    control.title = reason;
    return;
  }
  if (control.disabled || control.type === 'hidden') return;
  control.disabled = true;
  control.title = reason;
}
function holdBack(root) {
  for (const form of root.querySelectorAll('form[data-needs]')) {
    for (const control of form.elements) hold(control, form.dataset.needs);
    const button = [...form.elements].find((control) => control.type === 'submit');
    if (button && document.body.dataset.role !== 'viewer' && !form.querySelector('.needs')) {
      const why = document.createElement('small');
      why.className = 'needs quiet';
      why.textContent = ` ${Meadowrun.wording('needs the role “%(role)s”', {role: form.dataset.needs})}`;
      button.after(why);
    }
  }
  if (RANKS.indexOf(document.body.dataset.role) !== 0) return;
  for (const part of root.querySelectorAll('[data-author]')) {
    for (const control of [
      part,
      ...part.querySelectorAll(
        'button, input, select, textarea, [contenteditable=true], [contenteditable=plaintext-only]',
      ),
    ]) {
      if (control.matches('button, input, select, textarea, [contenteditable]'))
        hold(control, 'author');
    }
  }
}
if (document.body.dataset.role && document.body.dataset.role !== 'admin') {
  holdBack(document);
  let planned = 0;
  new MutationObserver(() => {
    cancelAnimationFrame(planned);
    planned = requestAnimationFrame(() => holdBack(document));
  }).observe(document.body, {childList: true, subtree: true});
}

// Before what cannot be undone: the question, and the button's own words once more. The button is
// pressed when they are.
function askFirst(button) {
  const box = Meadowrun.sheet('sheet-sure').firstElementChild;
  const [yes, no] = box.querySelectorAll('button');
  // What renews itself on the page may know better by now what would follow.
  const says = button.dataset.would
    ? document.querySelector(`[data-says="${button.dataset.would}"]`)
    : null;
  const question = says ? says.textContent.replace(/\s+/g, ' ').trim() : button.dataset.sure;
  box.querySelector('p').textContent = question;
  yes.textContent = button.dataset.word || button.textContent.trim();
  yes.addEventListener('click', () => {
    button.said = true;
    box.close();
    button.click();
    button.said = false;
  });
  no.addEventListener('click', () => box.close());
  box.addEventListener('close', () => box.remove());
  document.body.append(box);
  box.showModal();
}

function openFind() {
  const box = document.getElementById('find');
  if (!box.open) box.showModal();
  const input = box.querySelector('input');
  input.select();
  input.dispatchEvent(new Event('input'));
}

// Pages that follow something running renew a part of themselves, each second or every so many.
function follow(element) {
  const pause = 1000 * (element.dataset.every || 1);
  const again = async () => {
    try {
      const response = await fetch(element.dataset.follow, {
        headers: {Accept: 'text/html', 'X-By-Itself': '1'},
      });
      if (response.ok && !response.redirected) {
        element.innerHTML = await response.text();
        const state = element.querySelector('[data-finished]');
        if (state) {
          location.reload();
          return;
        }
      }
    } catch (problem) {
      /* asked again in a moment */
    }
    setTimeout(again, pause);
  };
  setTimeout(again, Math.min(pause, 800));
}
document.querySelectorAll('[data-follow]').forEach(follow);

// A row of tools is one stop of the Tab key; the arrows go along it (WAI-ARIA 1.2, toolbar).
document.addEventListener('keydown', (event) => {
  const bar = event.target.closest('[role=toolbar]');
  if (!bar || event.ctrlKey || event.altKey || event.metaKey) return;
  const stops = [...bar.querySelectorAll('button, a[href], input, select')].filter(
    (one) => !one.disabled && one.offsetParent,
  );
  const way = {ArrowRight: 1, ArrowLeft: -1}[event.key];
  if (way && event.target.matches('button, a')) {
    event.preventDefault();
    stops[(stops.indexOf(event.target) + way + stops.length) % stops.length].focus();
  }
  if (event.key !== 'Tab') return;
  // The browser looks for the next stop now, and must find it outside.
  const kept = stops
    .filter((one) => one !== event.target)
    .map((one) => [one, one.getAttribute('tabindex')]);
  for (const [one] of kept) one.tabIndex = -1;
  setTimeout(() => {
    for (const [one, was] of kept)
      if (was === null) one.removeAttribute('tabindex');
      else one.setAttribute('tabindex', was);
  });
});
