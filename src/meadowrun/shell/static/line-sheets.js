// The small sheets of a sieve: a line that is picked or typed, and who was lost at a line.

// Asks for the form of `asked` and shows it at a button. `taken` gets what was sent, and the line
// that was picked or typed, where there is one: {line} or {about}.
Meadowrun.askLine = async (button, asked, taken) => {
  const answer = await Meadowrun.post('/segments/word', asked);
  const sheet = Meadowrun.pop(button, answer.form, (form) => {
    const reading = form.get('reading');
    const about = form.get('about');
    const line = reading ? {line: JSON.parse(reading)} : about ? {about} : null;
    return taken(form, line);
  });
  Meadowrun.readTyped(sheet);
};

// A sentence typed where a line is picked: what it may mean stands above the list, after a short
// rest.
Meadowrun.readTyped = (sheet) => {
  const box = sheet.querySelector('[data-typed]');
  if (!box) return;
  const place = sheet.querySelector('[data-readings]');
  let timer = null;

  const choiceOf = (reading) => {
    const choice = document.createElement('button');
    choice.className = 'choice reading';
    choice.name = 'reading';
    choice.value = JSON.stringify(reading.line);
    choice.textContent = reading.said;
    choice.title = reading.meaning;
    if (reading.unused.length) {
      const left = document.createElement('small');
      const words = reading.unused.join('”, “');
      left.className = 'warn';
      left.textContent = ` ${Meadowrun.wording('makes nothing of “%(words)s”', {words})}`;
      choice.append(left);
    }
    return choice;
  };
  const show = (readings) => {
    place.replaceChildren(...readings.map(choiceOf));
    sheet.coming = null;
    Meadowrun.mark(sheet);
  };
  const ask = async (asked) => {
    const answer = await Meadowrun.post('/segments/typed', {text: asked}).catch(() => ({
      readings: [],
    }));
    if (box.value === asked) show(answer.readings);
  };
  box.addEventListener('input', () => {
    clearTimeout(timer);
    const asked = box.value;
    if (asked.trim().length < 3) {
      show([]);
      return;
    }
    sheet.coming = new Promise((done) => {
      timer = setTimeout(() => ask(asked).finally(done), 180);
    });
  });
};

// Who is no longer in after a line; more of them on request.
Meadowrun.lost = async (button, definition, line) => {
  const more = async (further) => {
    const after = Number(further.dataset.after);
    const answer = await Meadowrun.post('/segments/lost', {definition, line, after});
    further.outerHTML = answer.form;
  };
  try {
    const answer = await Meadowrun.post('/segments/lost', {definition, line});
    const sheet = Meadowrun.pop(button, answer.form, () => {});
    sheet.addEventListener('click', (event) => {
      if (event.target.dataset.after)
        more(event.target).catch((problem) => Meadowrun.say(problem.message));
    });
  } catch (problem) {
    Meadowrun.say(problem.message);
  }
};
