// A score's rules: what one gives points for is said in the lines of a segment, in a sheet over the
// page.
document.addEventListener('alpine:init', () => {
  Alpine.data('score', () => {
    // Inside the sheet another component is the nearest: what this one's page says is read once.
    let page = null;
    let lines = [];
    let place = null;

    return {
      init() {
        page = this.$root.dataset;
      },

      open(event) {
        const button = event.target.closest('[data-rule]');
        if (!button) return;
        const rules = JSON.parse(page.rules);
        place = button.dataset.rule === '' ? null : Number(button.dataset.rule);
        this.$dispatch('rule-lines', {format: 1, lines: place === null ? [] : rules[place]});
        const sheet = document.getElementById('rule');
        sheet.show();
        sheet.scrollIntoView({block: 'center'});
      },

      changed(event) {
        lines = event.detail.definition.lines;
      },

      async take() {
        try {
          const answer = await Meadowrun.post(page.save, {
            lines,
            place,
            version: Number(page.version),
          });
          location.href = answer.to;
        } catch (problem) {
          Meadowrun.say(problem.message);
        }
      },
    };
  });
});
