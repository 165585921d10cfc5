// A push notice: its particulars on the left, a drawn device on the right.
(() => {
  const page = document.getElementById('notice');
  const {base, message} = page.dataset;
  let {draft, person} = page.dataset;
  let waiting = null, dirty = false;
  let saving = Promise.resolve();
  const get = async (address) => (await fetch(address, {headers: {Accept: 'application/json'}})).json();
  const at = (slot) => page.querySelector(`[data-slot="${slot}"]`);
  const value = (slot) => at(slot).value;

  function gathered() {
    return {draft, subject: value('subject'), plain: value('plain'), push: {
      picture: value('picture'), icon: value('icon'), href: value('href'), tap: value('tap'), ttl: Number(value('ttl')),
      close_after: Number(value('close_after') || 0), inbox: at('inbox').checked,
      buttons: [0, 1].map((n) => ({label: value('label' + n), href: value('button' + n)})),
      data: [0, 1, 2].map((n) => [value('key' + n), value('data' + n)]),
    }};
  }

  function save() {
    clearTimeout(waiting);
    saving = saving.then(async () => {
      const sent = gathered();
      try {
        const answer = await Meadowrun.post(base, sent);
        draft = answer.draft;
        dirty = JSON.stringify({...gathered(), draft: 0}) !== JSON.stringify({...sent, draft: 0});
        document.getElementById('saved').textContent = `Draft ${draft} · saved ${answer.saved}`;
        document.getElementById('margin').innerHTML = answer.margin;
        Meadowrun.say('');
        await read();
      } catch (problem) {
        document.getElementById('saved').textContent = 'Not saved yet';
        Meadowrun.say(problem.message);
      }
    });
    return saving;
  }

  function picture(id, source) {
    const image = document.getElementById(id);
    image.hidden = !source;
    if (source) image.src = source;
  }

  async function read() {
    const answer = await get(`${base}/read?as=${person}`);
    if (answer.error) return;
    document.getElementById('n-title').textContent = answer.title || '(no title yet)';
    document.getElementById('n-body').textContent = answer.body;
    picture('n-icon', answer.push.icon);
    picture('n-picture', answer.push.picture);
    document.getElementById('n-buttons').replaceChildren(...answer.push.buttons.map((b) => Object.assign(document.createElement('span'), {className: 'toast-button', textContent: b.label, title: b.href})));
    document.getElementById('n-leads').textContent = answer.push.tap === 'app' ? 'a tap opens the app' : answer.push.href ? `a tap opens ${answer.push.href}` : '';
    document.getElementById('read-as').textContent = answer.name;
    document.getElementById('p-as').value = answer.person || '';
  }

  page.addEventListener('input', (event) => {
    if (!event.target.dataset.slot) return;
    dirty = true;
    clearTimeout(waiting);
    document.getElementById('saved').textContent = `Draft ${draft} · writing …`;
    waiting = setTimeout(save, 450);
    if (event.data === '@' || event.data === '#') offer(event.target, event.data);
  });

  async function offer(place, sign) {
    const known = await get(`${message}/fills`);
    const caret = place.selectionStart;
    const items = sign === '#' ? known.facts : known.fields;
    const sheet = Meadowrun.pop(place, '<input class="form-control form-control-sm" type="search" data-narrow aria-label="Narrow" placeholder="Type to narrow" autocomplete="off"><div class="choices"></div><label class="form-label mb-0" for="fb">and where it is blank</label><input class="form-control form-control-sm" id="fb" name="fallback" placeholder="friend">', (form) => {
      if (!form.get('ref')) return;
      const fallback = (form.get('fallback') || '').replace(/["{}\\]/g, '');
      place.setRangeText(`{{ ${form.get('ref')}${fallback ? ` | default("${fallback}", true)` : ''} }}`, caret - 1, caret, 'end');
      Meadowrun.closePop();
      place.focus();
      save();
    });
    sheet.querySelector('.choices').replaceChildren(...items.map((item) => Object.assign(document.createElement('button'), {className: 'choice', name: 'ref', value: item.ref, textContent: item.label})));
  }

  document.getElementById('margin').addEventListener('click', (event) => {
    const button = event.target.closest('[data-goto]');
    const place = button && at(button.dataset.goto.split(':')[1]);
    if (place) place.focus();
  });
  Meadowrun.readAs(message, () => person, (id) => { person = id; read(); });
  window.addEventListener('beforeunload', (event) => { if (dirty) event.preventDefault(); });
  read();
})();
