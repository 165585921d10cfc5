// Suggestions for a place of a message: several to choose from, edited before they are used. `take`
// gets the one that was chosen.
Meadowrun.suggest = (under, base, line, slot, take) => {
  const sheet = Meadowrun.pop(under, Meadowrun.sheet('sheet-suggest'), async (form) => {
    try {
      if (form.get('take')) await taken(form.get('take'));
      else await asked(form);
    } catch (problem) {
      Meadowrun.say(problem.message);
    }
  });

  async function taken(text) {
    await Meadowrun.post(base + '/chosen', {line, slot, text, brief: Meadowrun.brief});
    Meadowrun.closePop();
    take(text);
  }

  async function asked(form) {
    Meadowrun.brief = {
      purpose: form.get('purpose'),
      tone: form.get('tone'),
      formality: form.get('formality'),
    };
    const answer = await Meadowrun.post(base + '/suggest', {line, slot, ...Meadowrun.brief});
    const choices = answer.suggestions.map((s) =>
      Meadowrun.choice('take', s.text, s.shown, s.note),
    );
    sheet.querySelector('.choices').replaceChildren(...choices);
  }

  // What was asked last stands there again.
  for (const [name, value] of Object.entries(Meadowrun.brief || {}))
    sheet.elements[name].value = value;
};
