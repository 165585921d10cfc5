// The itinerary: a step that is typed shows what would be made of it; lines are moved by keys; what
// is clicked on the map is lit among the lines.
document.addEventListener('alpine:init', () => {
  // Typing pauses for so many milliseconds before it is read.
  const PAUSE = 120;
  const DEEDS = {ArrowUp: 'up', ArrowDown: 'down', ArrowRight: 'nest', Delete: 'remove'};

  // What differs from one drawing of a line to the next though nothing was changed.
  const VOLATILE = /name="(?:csrf_token|version)" value="[^"]*"/g;
  const said = (node) => (node.outerHTML || node.textContent).replace(VOLATILE, '');

  // Puts what was drawn anew in the place of what there is. Of a long itinerary most lines stay as
  // they are: drawing all of them again would take longer than all the rest. The map, which takes
  // longest, follows once the lines are seen.
  function exchange(root, made) {
    const both = (selector) => [root, made].map((all) => all.querySelector(selector));
    const lines = both('.itinerary');
    const map = both('[x-data=river]');
    if (!lines.every(Boolean)) {
      root.replaceChildren(made);
      return;
    }
    exchangeLines(...lines);
    exchangeAround(root, made, map.every(Boolean) ? [lines, map] : [lines]);
    const [shown, drawn] = map;
    if (shown && drawn && said(shown) !== said(drawn))
      requestAnimationFrame(() => setTimeout(() => shown.replaceWith(drawn)));
  }

  // The lines of an itinerary; one that says the same is left alone.
  function exchangeLines(before, after) {
    const there = new Map([...before.children].map((line) => [line.id, line]));
    const lines = [...after.children].map((line) => {
      const same = line.id && there.get(line.id);
      return same && said(same) === said(line) ? same : line;
    });
    const kept = new Set(lines);
    for (const line of [...before.children]) if (!kept.has(line)) line.remove();
    lines.forEach((line, place) => {
      const here = before.children[place];
      if (here !== line) before.insertBefore(line, here || null);
    });
  }

  // All that stands around some elements, which stay where they are; `pairs` has each of them with
  // the one that was drawn anew.
  function exchangeAround(root, made, pairs) {
    const place = ([kept]) => [...root.children].find((one) => one.contains(kept));
    const stay = new Set(pairs.map(place));
    for (const one of [...root.childNodes]) if (!stay.has(one)) one.remove();
    let last = null;
    for (const one of [...made.childNodes]) {
      const inside = pairs.filter(([, like]) => one.contains(like));
      const here = inside.length ? place(inside[0]) : one;
      if (!inside.length) root.insertBefore(one, last ? last.nextSibling : root.firstChild);
      else if (!inside.some(([kept]) => kept === here)) exchangeAround(here, one, inside);
      last = here;
    }
  }

  // A pin that is moved along the days of a rehearsal; the text tells the day that it stands on.
  Alpine.data('pin', () => ({
    day: 0,
    days: [],

    init() {
      this.days = JSON.parse(this.$root.dataset.said);
    },

    get said() {
      return this.days[this.day] || '';
    },

    get line() {
      const width = Number(this.$refs.line.dataset.width);
      return `M${(this.day + 0.5) * width} 0V110`;
    },
  }));

  // Where a wide map stands, also once it was drawn anew while people walk the journey.
  let stands = 0;

  // A map that is wider than the page is moved by dragging it, or the frame on the small one.
  Alpine.data('river', () => ({
    from: null,

    init() {
      if (stands) this.$refs.sheet.scrollLeft = stands;
      this.seen();
    },

    // The frame on the small map shows what of the large one is in view.
    seen() {
      const {sheet, frame, whole} = this.$refs;
      stands = sheet.scrollLeft;
      if (!frame) return;
      const scale = whole.viewBox.baseVal.width / sheet.scrollWidth;
      frame.setAttribute('x', stands * scale);
      frame.setAttribute('width', sheet.clientWidth * scale);
    },

    take(event) {
      const {sheet, whole} = this.$refs;
      if (event.button || event.target.closest('a')) return;
      event.currentTarget.setPointerCapture(event.pointerId);
      if (event.currentTarget === whole) this.go(event);
      else this.from = event.clientX + sheet.scrollLeft;
    },

    drag(event) {
      if (this.from !== null) this.$refs.sheet.scrollLeft = this.from - event.clientX;
    },

    drop() {
      this.from = null;
    },

    follow(event) {
      if (event.buttons) this.go(event);
    },

    // What is pointed at on the small map comes into the middle of the large one.
    go(event) {
      const {sheet, whole} = this.$refs;
      const box = whole.getBoundingClientRect();
      const share = (event.clientX - box.left) / box.width;
      sheet.scrollLeft = share * sheet.scrollWidth - sheet.clientWidth / 2;
    },
  }));

  // A drawing as a picture of points, twice as fine as it is shown, made here: nothing else than
  // the browser draws it.
  Alpine.data('asPng', () => ({
    async make() {
      const text = await Meadowrun.part(this.$el.href);
      if (text === null) return;
      const picture = new Image();
      picture.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(text)}`;
      await picture.decode();
      const canvas = document.createElement('canvas');
      canvas.width = 2 * picture.width;
      canvas.height = 2 * picture.height;
      const pen = canvas.getContext('2d');
      pen.fillStyle = 'white';
      pen.fillRect(0, 0, canvas.width, canvas.height);
      pen.drawImage(picture, 0, 0, canvas.width, canvas.height);
      const link = document.createElement('a');
      link.href = canvas.toDataURL('image/png');
      link.download = this.$el.dataset.name;
      link.click();
    },
  }));

  // What brings people in: what is asked beside it depends on what was chosen.
  Alpine.data('starts', () => ({
    how: '',

    init() {
      this.how = this.$root.querySelector('[name=what]').value;
    },

    get dated() {
      return this.how.startsWith('date:');
    },

    get happens() {
      return this.how.startsWith('event:');
    },

    get again() {
      return this.how.startsWith('rhythm:');
    },

    get timed() {
      return this.dated || this.again;
    },

    get people() {
      return this.dated || this.how.startsWith('event:')
        ? 'Only those of them (may stay empty)'
        : 'These people';
    },
  }));

  Alpine.data('itinerary', () => ({
    soon: 0,
    asking: new AbortController(),
    // What changes the itinerary waits for what changed it before.
    before: Promise.resolve(),
    waiting: 0,

    get version() {
      return document.querySelector('#undo [name=version]').value;
    },

    init() {
      // A form that stays away until it is opened.
      this.$root.addEventListener('toggle', (event) => this.fetch(event.target), true);
      this.$root.addEventListener('input', (event) => {
        if ('type' in event.target.dataset) this.read(event.target);
      });
      this.$root.addEventListener('keydown', (event) => this.keyed(event));
      this.$root.addEventListener('submit', (event) => this.sent(event));
      window.addEventListener('beforeunload', (event) => this.waiting && event.preventDefault());
      const line = location.hash && document.getElementById(location.hash.slice(1));
      const field = line && (line.matches('form') ? line.querySelector('[data-type]') : line);
      // Going to a place of a page takes the focus away once it is loaded: it is set after that.
      if (field) this.once(() => field.focus());
    },

    async fetch(details) {
      const address = details.dataset.sheet;
      if (!address || !details.open) return;
      delete details.dataset.sheet;
      const sheet = await Meadowrun.part(address);
      if (sheet !== null) {
        details.querySelector('.drop-sheet').innerHTML = sheet;
        return;
      }
      // Opened once more it is asked for again.
      details.dataset.sheet = address;
      details.open = false;
    },

    once(act) {
      if (document.readyState === 'complete') setTimeout(act, 0);
      else window.addEventListener('load', () => setTimeout(act, 0), {once: true});
    },

    // What would be made of what is typed, below the field: asked for once typing pauses, and not
    // waited for any more once something else is typed.
    read(field) {
      clearTimeout(this.soon);
      this.asking.abort();
      const list = field.form.querySelector('.typed-readings');
      if (field.value.trim()) this.soon = setTimeout(() => this.ask(field.value, list), PAUSE);
      else list.hidden = true;
    },

    async ask(text, list) {
      this.asking = new AbortController();
      const address = `${this.$root.dataset.readings}?text=${encodeURIComponent(text)}`;
      const readings = await Meadowrun.part(address, {signal: this.asking.signal});
      if (readings === null) return;
      list.innerHTML = readings;
      list.hidden = !list.children.length;
    },

    // Alt and an arrow move a line, Alt and Delete take it away; Ctrl+Z goes back by one change.
    keyed(event) {
      const typing = event.target.closest('input, textarea, select');
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'z' && !typing) {
        event.preventDefault();
        this.send(event.shiftKey ? 'redo' : 'undo');
        return;
      }
      const line = event.target.closest('[data-step]');
      if (!event.altKey || !line || !(event.key in DEEDS)) return;
      event.preventDefault();
      this.send(DEEDS[event.key], line.dataset.step);
    },

    send(what, step) {
      const form = document.getElementById('undo');
      if (!form) return;
      const said = new FormData(form);
      said.set('do', what);
      if (step) said.set('step', step);
      this.post(form.action, said);
    },

    sent(event) {
      const form = event.target;
      // A line that was left alone still has the version with which it was drawn.
      if (form.elements.version) form.elements.version.value = this.version;
      if (event.defaultPrevented || !('inPlace' in form.dataset)) return;
      event.preventDefault();
      const said = new FormData(form, event.submitter);
      // The next line can be typed while this one is made.
      const field = form.id && form.elements.text;
      if (field) {
        field.value = '';
        if ('type' in field.dataset) this.read(field);
      }
      this.post(form.action, said, field);
    },

    // Changes follow one another: each is of what the one before has made.
    post(action, said, field) {
      this.waiting += 1;
      this.before = this.before
        .then(() => this.change(action, said, field))
        .finally(() => (this.waiting -= 1));
    },

    // Makes a change, and draws the itinerary with it in the place of the one there is.
    async change(action, said, field) {
      said.set('version', this.version);
      said.set('edit', '1');
      try {
        const response = await fetch(action + location.search, {
          method: 'POST',
          body: said,
          headers: {Accept: 'text/html', 'X-In-Place': '1'},
        });
        const changed = response.headers.get('X-Changed');
        if (response.redirected) location.assign(response.url);
        else if (changed !== null) this.draw(await response.text(), changed);
        else this.failed(Meadowrun.wording('That did not work. Reload the page.'), said, field);
      } catch (problem) {
        const why = Meadowrun.wording(
          'Meadowrun does not answer. What you typed is still here: try again.',
        );
        this.failed(why, said, field);
      }
    },

    failed(why, said, field) {
      if (field) field.value = said.get('text');
      Meadowrun.say(why);
    },

    draw(text, changed) {
      const typed = this.typed();
      const made = document.createElement('template');
      made.innerHTML = text;
      Meadowrun.say('');
      exchange(this.$root, made.content);
      if (changed) location.replace(`#${changed}`);
      else this.$root.querySelector('[role=alert]')?.scrollIntoView({block: 'nearest'});
      const place = document.getElementById(typed ? typed.id : changed);
      const field = place?.matches('form') ? place.elements.text : place;
      field?.focus();
      if (!typed || !field) return;
      // What was refused stands there again: what was typed meanwhile comes behind it.
      const before = field.value === typed.text ? '' : field.value;
      field.value = [before, typed.text].filter(Boolean).join(' ');
      if ('type' in field.dataset) this.read(field);
    },

    // The line that is being typed just now, by its form.
    typed() {
      const field = document.activeElement;
      const here = field?.form?.id && field.name === 'text' && this.$root.contains(field);
      return here && field.value ? {id: field.form.id, text: field.value} : null;
    },
  }));
});
