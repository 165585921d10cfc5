// The send's sheet: each underlined word opens its own small form, and the answer draws the sheet
// anew.
(() => {
  // What a typed sentence will be taken for, said while it is typed.
  async function reads(input, place) {
    const text = input.value.trim();
    const answer = text
      ? await Meadowrun.post(input.dataset.reads, {text}).catch(() => ({readings: []}))
      : null;
    if (text !== input.value.trim()) return;
    place.textContent = !answer
      ? ''
      : !answer.readings.length
        ? 'Not understood yet.'
        : 'Everyone ' +
          answer.readings[0].said +
          '.' +
          answer.readings[0].unused.map((word) => ` Nothing is made of “${word}”.`).join('');
  }
  const page = document.getElementById('sheet');
  // The answer is a page of its own: one is back at the word that was changed.
  const left = sessionStorage.getItem('word');
  sessionStorage.removeItem('word');
  if (left)
    [...page.querySelectorAll('[data-word]')].find((word) => word.dataset.word === left)?.focus();
  page.addEventListener('click', async (event) => {
    const button = event.target.closest('[data-word]');
    if (!button || button.disabled) return;
    const response = await fetch(button.dataset.word, {headers: {Accept: 'text/html'}});
    if (!response.ok) {
      Meadowrun.say('That word cannot be changed now. Reload the page.');
      return;
    }
    const sheet = Meadowrun.pop(button, await response.text(), () => {});
    const token = document.createElement('input');
    token.type = 'hidden';
    token.name = 'csrf_token';
    token.value = Meadowrun.csrf();
    sheet.append(token);
    sheet.method = 'post';
    sheet.action = button.dataset.word;
    sheet.addEventListener('submit', () => sessionStorage.setItem('word', button.dataset.word), {
      capture: true,
    });
    // A plain form post, so that the answer is a page of its own and the address stays right.
    sheet.addEventListener('submit', (submit) => submit.stopImmediatePropagation(), {
      capture: true,
    });
    // A number that is typed, or a name that is chosen, beside a choice means that choice.
    sheet.querySelectorAll('[data-marks]').forEach((input) =>
      input.addEventListener('input', () => {
        const now = sheet.querySelector('input[name=how]:checked');
        if (!now || now.value !== input.dataset.unless)
          sheet.querySelector(`input[name=how][value=${input.dataset.marks}]`).checked = true;
      }),
    );
    const said = sheet.querySelector('[data-reads]');
    if (said) said.addEventListener('input', () => reads(said, sheet.querySelector('#w-reads')));
    sheet.querySelectorAll('input[type=date], input[type=time]').forEach((input) =>
      input.addEventListener('input', () => {
        const at = sheet.querySelector('input[value=at]');
        if (at) at.checked = true;
      }),
    );
  });
  page.addEventListener('click', (event) => {
    const goto = event.target.closest('[data-goto]');
    if (!goto) return;
    const slot = {to: 'in'}[goto.dataset.goto.split(':')[1]] || goto.dataset.goto.split(':')[1];
    const word = document.getElementById('w-' + slot);
    if (word) {
      word.focus();
      word.click();
    }
  });
})();
