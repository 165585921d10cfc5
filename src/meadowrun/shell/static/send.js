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
      const sheet = await Meadowrun.part(word.dataset.word);
      if (sheet === null) return;
      const form = Meadowrun.pop(word, sheet, () => {});
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
      this.repeating(form);
    },

    // Only what belongs to the chosen answer is shown; the next dates are shown while a rule is
    // typed.
    repeating(form) {
      const typed = form.querySelector('[data-rhythm]');
      if (!typed) return;
      const choose = () => {
        const when = form.querySelector('input[name=when]:checked').value;
        form.querySelectorAll('[data-for]').forEach((part) => {
          part.hidden = !part.dataset.for.split(' ').includes(when);
        });
        form.querySelectorAll('[data-ends]').forEach((input) => {
          input.hidden = form.elements.ends.value !== input.dataset.ends;
        });
      };
      const show = () => this.dates(form, typed);
      typed.addEventListener('input', show);
      form
        .querySelectorAll('[name=day], [name=time]')
        .forEach((input) => input.addEventListener('input', show));
      form.addEventListener('change', choose);
      choose();
      if (typed.value) show();
    },

    async dates(form, typed) {
      const place = form.querySelector('#w-dates');
      const text = typed.value.trim();
      const asked = new URLSearchParams({
        text,
        day: form.elements.day.value,
        time: form.elements.time.value,
      });
      const answer = (text && (await Meadowrun.data(`${typed.dataset.rhythm}?${asked}`))) || {};
      if (text !== typed.value.trim()) return;
      place.textContent = answer.problem || (answer.dates ? answer.dates.join(' · ') : '');
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
