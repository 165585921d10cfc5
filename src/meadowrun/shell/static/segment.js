// The segment's page: its lines, and saving them under a name.
(() => {
  const page = document.getElementById('segment');
  const segment = page.dataset.segment ? Number(page.dataset.segment) : null;
  let name = page.dataset.name;
  const unsaved = document.getElementById('unsaved'), undo = document.getElementById('undo');
  const sieve = Meadowrun.sieve(page, JSON.parse(page.dataset.definition), segment, (steps) => {
    unsaved.hidden = false;
    undo.disabled = !steps;
  });

  undo.addEventListener('click', sieve.undo);
  document.getElementById('save').addEventListener('click', (event) => {
    Meadowrun.pop(event.target, '<label class="form-label mb-0" for="sn">Name you will recognise later</label><input class="form-control" id="sn" name="name"><div class="doing"><button class="btn btn-primary btn-sm">Save</button></div>', async (form) => {
      name = form.get('name');
      try {
        const answer = await Meadowrun.post(page.dataset.save, {definition: sieve.definition, segment, name, part: page.dataset.partKey, version: page.dataset.version ? Number(page.dataset.version) : null});
        sieve.forget();
        unsaved.hidden = true;
        location.href = answer.to;
      } catch (problem) { Meadowrun.say(problem.message); }
    });
    document.getElementById('sn').value = name;
    document.getElementById('sn').select();
  });

  window.addEventListener('beforeunload', (event) => { if (!unsaved.hidden) event.preventDefault(); });
})();
