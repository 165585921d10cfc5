// A picture of the store, chosen from a sheet; `take` gets its address.
Meadowrun.choosePicture = async (button, take) => {
  const answer = await Meadowrun.data('/files/pictures');
  if (!answer) return;
  const sheet = Meadowrun.pop(button, Meadowrun.sheet('sheet-picture'), (form) => {
    if (!form.get('src')) return;
    Meadowrun.closePop();
    take(form.get('src'));
  });
  const choices = answer.pictures.map((picture) => {
    const choice = Meadowrun.choice('src', picture.src, '');
    const image = Object.assign(document.createElement('img'), {
      src: picture.src,
      alt: '',
      loading: 'lazy',
    });
    choice.append(image, picture.name);
    return choice;
  });
  sheet.querySelector('.choices').replaceChildren(...choices);
};

Meadowrun.pictureIn = (files) => [...files].find((file) => file.type.startsWith('image/'));

// Pictures of a message, pasted, dropped or uploaded: stored first, then a change says where they
// stand.
Meadowrun.pictures = (change) => {
  async function stored(file) {
    const form = new FormData();
    form.set('file', file);
    const answer = await Meadowrun.data('/files', {
      method: 'POST',
      body: form,
      headers: {Accept: 'application/json', 'X-CSRFToken': Meadowrun.csrf()},
    });
    return answer ? answer.src : '';
  }

  async function add(file, after) {
    const src = await stored(file);
    if (src) change({do: 'add_picture', src, after});
  }

  async function into(file, line) {
    const value = await stored(file);
    if (value) change({do: 'set', line, slot: 'src', value});
  }

  function upload(line) {
    document.getElementById('picture-file')?.remove();
    const input = Object.assign(document.createElement('input'), {
      type: 'file',
      accept: 'image/png,image/jpeg,image/gif',
      hidden: true,
      id: 'picture-file',
    });
    document.body.append(input);
    input.addEventListener('change', () => {
      into(input.files[0], line);
      input.remove();
    });
    input.click();
  }

  return {add, into, upload};
};
