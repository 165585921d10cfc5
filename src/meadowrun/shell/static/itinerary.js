// The itinerary: a step that is typed shows what would be made of it; lines are moved by keys; what
// is clicked on the map is lit among the lines.
document.addEventListener('alpine:init', () => {
  const DEEDS = {ArrowUp: 'up', ArrowDown: 'down', ArrowRight: 'nest', Delete: 'remove'};

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
      const text = await (await fetch(this.$el.href)).text();
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
    asked: 0,
    // What changes the itinerary waits for what changed it before.
    before: Promise.resolve(),
    busy: false,

    init() {
      // A form that stays away until it is opened.
      this.$root.addEventListener('toggle', (event) => this.fetch(event.target), true);
      this.$root.addEventListener('input', (event) => {
        if ('type' in event.target.dataset) this.read(event.target);
      });
      this.$root.addEventListener('keydown', (event) => this.keyed(event));
      this.$root.addEventListener('submit', (event) => this.sent(event));
      const line = location.hash && document.getElementById(location.hash.slice(1));
      const field = line && (line.matches('form') ? line.querySelector('[data-type]') : line);
      // Going to a place of a page takes the focus away once it is loaded: it is set after that.
      if (field) this.once(() => field.focus());
    },

    async fetch(details) {
      const address = details.dataset.sheet;
      if (!address || !details.open) return;
      delete details.dataset.sheet;
      const response = await fetch(address, {headers: {Accept: 'text/html'}});
      const sheet = details.querySelector('.drop-sheet');
      if (response.ok) {
        sheet.innerHTML = await response.text();
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

    // What would be made of what is typed, below the field; only the latest answer is shown.
    async read(field) {
      const list = field.form.querySelector('.typed-readings');
      const mine = (this.asked += 1);
      if (!field.value.trim()) {
        list.hidden = true;
        return;
      }
      const address = `${this.$root.dataset.readings}?text=${encodeURIComponent(field.value)}`;
      const response = await fetch(address, {headers: {Accept: 'text/html'}});
      if (!response.ok || mine !== this.asked) return;
      list.innerHTML = await response.text();
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

    // By keys one change follows the other before the first is drawn.
    send(what, step) {
      this.before = this.before.then(() => {
        const form = document.getElementById('undo');
        if (!form) return null;
        const said = new FormData(form);
        said.set('do', what);
        if (step) said.set('step', step);
        return this.post(form, said);
      });
    },

    sent(event) {
      const form = event.target;
      if (event.defaultPrevented || !('inPlace' in form.dataset)) return;
      event.preventDefault();
      if (this.busy) return;
      this.post(form, new FormData(form, event.submitter));
    },

    // Makes a change, and draws the itinerary with it in the place of the one there is.
    async post(form, said) {
      this.busy = true;
      said.set('edit', '1');
      try {
        const response = await fetch(form.action + location.search, {
          method: 'POST',
          body: said,
          headers: {Accept: 'text/html', 'X-In-Place': '1'},
        });
        const changed = response.headers.get('X-Changed');
        if (response.redirected) location.assign(response.url);
        else if (changed !== null) this.draw(await response.text(), changed);
        else Meadowrun.say(Meadowrun.wording('That did not work. Reload the page and try again.'));
      } catch (problem) {
        Meadowrun.say(
          Meadowrun.wording('Meadowrun does not answer. What you typed is still here: try again.'),
        );
      } finally {
        this.busy = false;
      }
    },

    draw(text, changed) {
      this.$root.innerHTML = text;
      if (!changed) {
        this.$root.querySelector('[role=alert]')?.scrollIntoView({block: 'nearest'});
        return;
      }
      location.replace(`#${changed}`);
      const place = document.getElementById(changed);
      const field = place?.matches('form') ? place.querySelector('[name=text]') : place;
      field?.focus();
    },
  }));
});
