// Who reads a version or some words: the same lines as a segment's, in a sheet over the page.
Meadowrun.who = () => {
  const sheet = document.getElementById('who');
  const name = document.getElementById('who-name');
  const sieve = Meadowrun.sieve(sheet, {format: 1, lines: []}, null, () => {});
  let take = null;
  document.getElementById('who-undo').addEventListener('click', sieve.undo);
  document.getElementById('who-take').addEventListener('click', async () => {
    if ((await take(sieve.definition.lines, name.value)) !== false) sheet.close();
  });

  // `called` is a version's name; words have none. `taking` gets the lines and the name; false
  // leaves the sheet open.
  return async (lines, called, taking) => {
    take = taking;
    name.value = called || '';
    name.closest('p').hidden = called === null;
    const what =
      called === null ? Meadowrun.wording('these words') : Meadowrun.wording('this version');
    document.getElementById('who-what').textContent = what;
    await sieve.start({format: 1, lines: structuredClone(lines)});
    sheet.show();
    sheet.scrollIntoView({block: 'center'});
  };
};
