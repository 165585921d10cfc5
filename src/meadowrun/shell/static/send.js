// The send's sheet: each underlined word opens its own small form, and the answer draws the sheet
// anew.
document.addEventListener('alpine:init', () => {
  Alpine.data('sheet', () => ({
    // The answer is a page of its own: one is back at the word that was changed.
    init() {
      const left = sessionStorage.getItem('word');
      sessionStorage.removeItem('word');
      const words = [...this.$root.querySelectorAll('[data-word]')];
      if (left) words.find((word) => word.dataset.word === left)?.focus();
    },

    clicked(event) {
      const word = event.target.closest('[data-word]');
      const finding = event.target.closest('[data-goto]');
      if (word && !word.disabled) this.open(word);
      else if (finding) this.goTo(finding.dataset.goto.split(':')[1]);
    },

    goTo(slot) {
      const word = document.getElementById(`w-${slot === 'to' ? 'in' : slot}`);
      if (!word) return;
      word.focus();
      word.click();
    },

    async open(word) {
      const response = await fetch(word.dataset.word, {headers: {Accept: 'text/html'}});
      if (!response.ok) {
        Meadowrun.say(Meadowrun.wording('That word cannot be changed now. Reload the page.'));
        return;
      }
      const form = Meadowrun.pop(word, await response.text(), () => {});
      this.postable(form, word.dataset.word);
      this.marking(form);
      const typed = form.querySelector('[data-reads]');
      typed?.addEventListener('input', () => this.reads(typed, form.querySelector('#w-reads')));
    },

    // A plain form post, so that the answer is a page of its own and the address stays right.
    postable(form, address) {
      const token = Object.assign(document.createElement('input'), {
        type: 'hidden',
        name: 'csrf_token',
        value: Meadowrun.csrf(),
      });
      form.append(token);
      Object.assign(form, {method: 'post', action: address});
      form.addEventListener(
        'submit',
        (event) => {
          sessionStorage.setItem('word', address);
          event.stopImmediatePropagation();
        },
        {capture: true},
      );
    },

    // A number that is typed, or a name that is chosen, beside a choice means that choice.
    marking(form) {
      form.querySelectorAll('[data-marks]').forEach((input) =>
        input.addEventListener('input', () => {
          const now = form.querySelector('input[name=how]:checked');
          if (now && now.value === input.dataset.unless) return;
          form.querySelector(`input[name=how][value=${input.dataset.marks}]`).checked = true;
        }),
      );
      form.querySelector('[data-clock]')?.addEventListener('input', () => {
        form.querySelector('input[name=clock][value=one]').checked = true;
      });
      form.querySelectorAll('input[type=date], input[type=time]').forEach((input) =>
        input.addEventListener('input', () => {
          const at = form.querySelector('input[value=at]');
          if (at) at.checked = true;
        }),
      );
    },

    // What a typed sentence will be taken for, said while it is typed.
    async reads(input, place) {
      const text = input.value.trim();
      const asked = text && Meadowrun.post(input.dataset.reads, {text});
      const answer = text ? await asked.catch(() => ({readings: []})) : null;
      if (text !== input.value.trim()) return;
      place.textContent = answer ? this.understood(answer.readings[0]) : '';
    },

    understood(reading) {
      if (!reading) return Meadowrun.wording('Not understood yet.');
      const unused = reading.unused.map(
        (word) => ` ${Meadowrun.wording('Nothing is made of “%(word)s”.', {word})}`,
      );
      return Meadowrun.wording('Everyone %(said)s.', reading) + unused.join('');
    },
  }));
});
