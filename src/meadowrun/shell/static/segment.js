// The segment's page: its lines, and saving them under a name.
(() => {
  const page = document.getElementById('segment');
  const segment = page.dataset.segment ? Number(page.dataset.segment) : null;
  let name = page.dataset.name;
  const unsaved = document.getElementById('unsaved'),
    undo = document.getElementById('undo');
  const sieve = Meadowrun.sieve(page, JSON.parse(page.dataset.definition), segment, (steps) => {
    unsaved.hidden = false;
    undo.disabled = !steps;
  });

  undo.addEventListener('click', sieve.undo);
  let version = page.dataset.version ? Number(page.dataset.version) : null;

  // Of two who saved, the later is asked: mine becomes the newest version, or theirs is shown and
  // mine goes.
  async function save() {
    try {
      const answer = await Meadowrun.post(page.dataset.save, {
        definition: sieve.definition,
        segment,
        name,
        group: page.dataset.groupKey,
        version,
      });
      sieve.forget();
      unsaved.hidden = true;
      location.href = answer.to;
    } catch (problem) {
      if (problem.newest === undefined) {
        Meadowrun.say(problem.message);
        return;
      }
      const mine = () => {
        version = problem.newest;
        save();
      };
      const theirs = () => {
        unsaved.hidden = true;
        location.reload();
      };
      Meadowrun.conflict(problem, mine, theirs, [
        'Save mine (theirs stays among the earlier versions)',
        'Open theirs (mine is gone)',
      ]);
    }
  }

  document.getElementById('save').addEventListener('click', (event) => {
    Meadowrun.pop(event.target, Meadowrun.sheet('save-form'), async (form) => {
      name = form.get('name');
      await save();
      Meadowrun.closePop();
    });
    document.getElementById('sn').value = name;
    document.getElementById('sn').select();
  });

  window.addEventListener('beforeunload', (event) => {
    if (!unsaved.hidden) event.preventDefault();
  });
})();
