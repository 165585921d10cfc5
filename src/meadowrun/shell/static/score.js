// A score's rules: what one gives points for is said in the lines of a segment, in a sheet over the
// page.
document.addEventListener('alpine:init', () => {
  Alpine.data('score', () => {
    let sieve = null;
    let sheet = null;
    let place = null;

    return {
      init() {
        sheet = document.getElementById('rule');
        sieve = Meadowrun.sieve(sheet, {format: 1, lines: []}, null, () => {});
      },

      async open(event) {
        const button = event.target.closest('[data-rule]');
        if (!button) return;
        const rules = JSON.parse(this.$root.dataset.rules);
        place = button.dataset.rule === '' ? null : Number(button.dataset.rule);
        await sieve.start({format: 1, lines: place === null ? [] : rules[place]});
        sheet.show();
        sheet.scrollIntoView({block: 'center'});
      },

      undo() {
        sieve.undo();
      },

      async take() {
        const {lines, version} = this.$root.dataset;
        try {
          const answer = await Meadowrun.post(lines, {
            lines: sieve.definition.lines,
            place,
            version: Number(version),
          });
          location.href = answer.to;
        } catch (problem) {
          Meadowrun.say(problem.message);
        }
      },
    };
  });
});
