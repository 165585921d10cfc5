// A score's page: for what a rule gives its points is said in the lines of a segment, in a sheet
// over the page.
(() => {
  const page = document.getElementById('score');
  const sheet = document.getElementById('rule');
  const rules = JSON.parse(page.dataset.rules);
  const sieve = Meadowrun.sieve(sheet, {format: 1, lines: []}, null, () => {});
  let place = null;

  page.addEventListener('click', async (event) => {
    const button = event.target.closest('[data-rule]');
    if (!button) return;
    place = button.dataset.rule === '' ? null : Number(button.dataset.rule);
    await sieve.start({format: 1, lines: place === null ? [] : rules[place]});
    sheet.show();
    sheet.scrollIntoView({block: 'center'});
  });
  document.getElementById('rule-undo').addEventListener('click', sieve.undo);
  document.getElementById('rule-take').addEventListener('click', async () => {
    try {
      const answer = await Meadowrun.post(page.dataset.lines, {
        lines: sieve.definition.lines,
        place,
        version: Number(page.dataset.version),
      });
      location.href = answer.to;
    } catch (problem) {
      Meadowrun.say(problem.message);
    }
  });
})();
