// Suggestions for a place of a message: several to choose from, edited before they are used. `take`
// gets the one that was chosen.
Meadowrun.suggest = (under, base, line, slot, take) => {
  const options = (values) => values.map((v) => `<option value="${v}">${v}</option>`).join('');
  const sheet = Meadowrun.pop(
    under,
    '<label class="form-label mb-0" for="hp">What it is for</label><input class="form-control form-control-sm" id="hp" name="purpose" placeholder="invite to the Leonid nights"><div class="d-flex mt-2"><select class="form-select form-select-sm" name="tone" aria-label="Tone">' +
      options(['warm', 'plain', 'lively', 'urgent']) +
      '</select><select class="form-select form-select-sm" name="formality" aria-label="Formality">' +
      options(['informal', 'formal']) +
      '</select></div><div class="doing"><button class="btn btn-primary btn-sm">Suggest</button></div><div class="choices" role="status"></div>',
    async (form) => {
      try {
        if (form.get('take')) {
          await Meadowrun.post(base + '/chosen', {
            line,
            slot,
            text: form.get('take'),
            brief: Meadowrun.brief,
          });
          Meadowrun.closePop();
          take(form.get('take'));
          return;
        }
        Meadowrun.brief = {
          purpose: form.get('purpose'),
          tone: form.get('tone'),
          formality: form.get('formality'),
        };
        const answer = await Meadowrun.post(base + '/suggest', {line, slot, ...Meadowrun.brief});
        sheet.querySelector('.choices').replaceChildren(
          ...answer.suggestions.map((s) => {
            const choice = Object.assign(document.createElement('button'), {
              className: 'choice',
              name: 'take',
              value: s.text,
              textContent: s.shown,
            });
            if (s.note)
              choice.append(
                Object.assign(document.createElement('small'), {textContent: ' ' + s.note}),
              );
            return choice;
          }),
        );
      } catch (problem) {
        Meadowrun.say(problem.message);
      }
    },
  );
  // What was asked last stands there again.
  for (const [name, value] of Object.entries(Meadowrun.brief || {}))
    sheet.elements[name].value = value;
};
