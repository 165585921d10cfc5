// A picture of the store, chosen from a sheet; `take` gets its address.
Meadowrun.choosePicture = async (button, take) => {
  const answer = await (
    await fetch('/files/pictures', {headers: {Accept: 'application/json'}})
  ).json();
  const sheet = Meadowrun.pop(
    button,
    '<input class="form-control form-control-sm" type="search" data-narrow aria-label="Narrow" placeholder="Type to filter" autocomplete="off"><div class="choices pictures"></div>',
    (form) => {
      if (!form.get('src')) return;
      Meadowrun.closePop();
      take(form.get('src'));
    },
  );
  sheet.querySelector('.choices').replaceChildren(
    ...answer.pictures.map((p) => {
      const choice = Object.assign(document.createElement('button'), {
        className: 'choice',
        name: 'src',
        value: p.src,
      });
      const image = Object.assign(document.createElement('img'), {
        src: p.src,
        alt: '',
        loading: 'lazy',
      });
      choice.append(image, p.name);
      return choice;
    }),
  );
};

// Pictures of a message: pasted, dropped, uploaded, or taken from the store. `first` puts a line
// before all others.
Meadowrun.pictures = (page, lines, base, tree, first, save) => {
  const get = async (address) =>
    (await fetch(address, {headers: {Accept: 'application/json'}})).json();

  lines.addEventListener('paste', (event) => {
    if (!event.target.closest('.ink')) return;
    event.preventDefault();
    const picture = [...event.clipboardData.files].find((f) => f.type.startsWith('image/'));
    if (picture) {
      newPicture(picture, event.target.closest('.line').dataset.id);
      return;
    }
    // Pasting brings words, not somebody else's looks.
    document.execCommand('insertText', false, event.clipboardData.getData('text/plain'));
  });

  async function stored(file) {
    const form = new FormData();
    form.set('file', file);
    const response = await fetch('/files', {
      method: 'POST',
      body: form,
      headers: {Accept: 'application/json', 'X-CSRFToken': Meadowrun.csrf()},
    });
    const answer = await response.json();
    if (!response.ok) {
      Meadowrun.say(answer.error);
      return null;
    }
    return answer;
  }

  async function newPicture(file, after) {
    const answer = await stored(file);
    if (!answer) return;
    const line = await get(`${base}/line/picture`);
    line.src = answer.src;
    const place = tree().find(after);
    if (place) place.lines.splice(place.index + 1, 0, line);
    else first(line);
    save(true);
  }

  lines.addEventListener('dragover', (event) => {
    if (event.dataTransfer.types.includes('Files')) event.preventDefault();
  });
  lines.addEventListener('drop', async (event) => {
    const file = [...event.dataTransfer.files].find((f) => f.type.startsWith('image/'));
    const row = event.target.closest('.line');
    if (!file) return;
    event.preventDefault();
    const place = row && row.dataset.type === 'picture' && tree().find(row.dataset.id);
    if (!place) {
      newPicture(file, row ? row.dataset.id : '');
      return;
    }
    const answer = await stored(file);
    if (answer) {
      place.line.src = answer.src;
      save(true);
    }
  });

  function upload(id) {
    const input = Object.assign(document.createElement('input'), {
      type: 'file',
      accept: 'image/png,image/jpeg,image/gif',
      hidden: true,
      id: 'picture-file',
    });
    document.getElementById('picture-file')?.remove();
    page.append(input);
    input.addEventListener('change', async () => {
      const answer = await stored(input.files[0]);
      input.remove();
      if (answer) {
        tree().find(id).line.src = answer.src;
        save(true);
      }
    });
    input.click();
  }

  const fromStore = (button, id) =>
    Meadowrun.choosePicture(button, (src) => {
      tree().find(id).line.src = src;
      save(true);
    });

  return {upload, fromStore};
};
