// The write half: what is typed, its tools, and the buttons that post a change or ask something first.
document.addEventListener('alpine:init', () => {
  // What people type as a link without saying how it is reached: a website, or an email address.
  const SITE = /^[\p{L}\p{N}-]+(\.[\p{L}\p{N}-]+)+([/?#:]|$)/u;
  const EMAIL = /^[^\s@/:{}]+@[^\s@/:{}]+\.[^\s@/:{}]+$/;

  function completed(link) {
    const typed = link.trim();
    if (EMAIL.test(typed)) return `mailto:${typed}`;
    return SITE.test(typed) ? `https://${typed}` : typed;
  }

  Alpine.data('lines', () => {
    let words = null;
    let pictures = null;
    let here = '';
    // What a line shows only while it is selected would move the page under a pressed pointer: it
    // waits for the click's end.
    let pressed = false;

    return {
      init() {
        const {base} = this.$root.dataset;
        words = Meadowrun.words(base, (place) => this.typedIn(place));
        words.load().catch(() => {});
        pictures = Meadowrun.pictures((change) => this.change(change, true));
        Meadowrun.ink.paint(this.lines());
        this.sortable();
        const finding = new URLSearchParams(location.search).get('goto');
        if (finding) this.goTo(finding);
      },

      lines() {
        return document.getElementById('lines');
      },

      // What comes back of a change: the lines as the server draws them, and the one it touched.
      show(event) {
        const {lines, touched} = event.detail;
        if (lines === undefined) return;
        const from = document.activeElement;
        this.lines().innerHTML = lines;
        Meadowrun.ink.paint(this.lines());
        this.sortable();
        if (touched) this.select(touched);
        else this.row(here)?.classList.add('here');
        if (touched && (from === document.body || !from.isConnected)) this.enter(touched);
      },

      row(id) {
        return id ? this.lines().querySelector(`.line[data-id="${id}"]`) : null;
      },

      enter(id) {
        this.row(id)?.querySelector('.ink, input, select, button')?.focus({preventScroll: true});
      },

      // Typing

      typed(event) {
        const place = event.target.closest('[data-slot]');
        if (!place) return;
        if (place.isContentEditable) {
          this.typedIn(place);
          if ('@#'.includes(event.data || ' ')) words.typedSign(place, event.data);
          return;
        }
        const {line, slot} = place.dataset;
        let {value} = place;
        if (place.type === 'checkbox') value = place.checked;
        else if ('number' in place.dataset) value = Number(place.value);
        if ('number' in place.dataset && place.value === '') return;
        this.change({do: 'set', line, slot, value}, 'redraw' in place.dataset);
      },

      typedIn(place) {
        const bare = place.textContent.trim() === '' && !place.querySelector('[data-fill]');
        if (bare) place.dataset.empty = '';
        else delete place.dataset.empty;
        const {line, slot} = place.dataset;
        this.change({do: 'set', line, slot, value: words.textOf(place)});
      },

      // Not every browser tells of a choice as input. What is chosen for a verb is posted whole.
      chose(event) {
        const place = event.target;
        const link = place.matches('input[data-slot$="href"], input[data-slot="link"]');
        if (link && completed(place.value) !== place.value) {
          place.value = completed(place.value);
          this.typed(event);
        } else if (place.matches('select[data-slot]')) this.typed(event);
        else if (place.dataset.do)
          this.change({do: place.dataset.do, line: place.dataset.line, value: place.value});
      },

      // Columns that were drawn wider or narrower; the border that was moved keeps its focus.
      async resized(event) {
        const {line, value, at} = event.detail;
        if (!(await this.change({do: 'split', line, value}))) return;
        this.row(line)?.querySelector(`.split-border[data-at="${at}"]`)?.focus();
      },

      // Pasting brings words, not somebody else's looks; a picture becomes a line.
      pasted(event) {
        const place = event.target.closest('.ink');
        if (!place) return;
        event.preventDefault();
        const file = Meadowrun.pictureIn(event.clipboardData.files);
        const row = place.closest('.line[data-type]');
        if (file && row) pictures.add(file, row.dataset.id);
        else Meadowrun.ink.write(place, event.clipboardData.getData('text/plain'));
      },

      dragged(event) {
        if (event.dataTransfer.types.includes('Files')) event.preventDefault();
      },

      dropped(event) {
        const file = Meadowrun.pictureIn(event.dataTransfer.files);
        const row = event.target.closest('.line');
        if (!file || !row) return;
        event.preventDefault();
        if (row.dataset.type === 'picture') pictures.into(file, row.dataset.id);
        else pictures.add(file, row.dataset.id);
      },

      keyed(event) {
        const row = event.target.closest('.line[data-id]');
        const way = {ArrowUp: 'up', ArrowDown: 'down'}[event.key];
        if (event.altKey && way && row?.dataset.id) {
          event.preventDefault();
          this.change({do: way, line: row.dataset.id});
        }
        if (event.key === 'Enter' && event.target.matches('.ink:not([data-rich], [data-multi])'))
          event.preventDefault();
      },

      // Tools

      keptFocus(event) {
        if (event.target.closest('.ink-tools button')) event.preventDefault();
      },

      clicked(event) {
        this.selected(event);
        const chip = event.target.closest('.ink [data-fill]');
        const button = event.target.closest('button');
        if (chip) words.change(chip);
        else if (button?.dataset.insert) words.offer(this.inkOf(button), button.dataset.insert);
        else if (button?.dataset.format) this.format(button);
        else if (button?.dataset.ask) this.ask(button);
        else if (button?.dataset.do) this.change({...button.dataset});
      },

      inkOf(button) {
        return button.closest('.line, .pad').querySelector('.ink');
      },

      // What is asked in a small sheet, or elsewhere, before the change is posted.
      ask(button) {
        const {ask, line, slot, into} = button.dataset;
        const asks = {
          add: () => this.askType(button, into),
          keep: () => this.askWords(button, 'sheet-keep', 'name', {do: 'keep', line}),
          comment: () => this.comment(button, line),
          upload: () => pictures.upload(line),
          store: () => Meadowrun.choosePicture(button, (src) => this.setPicture(line, slot, src)),
          suggest: () => this.suggest(button, line, slot),
          who: () => this.askWho(button),
        };
        asks[ask]();
      },

      setPicture(line, slot, src) {
        this.change({do: 'set', line, slot, value: src}, true);
      },

      askType(button, into) {
        const sheet = Meadowrun.pop(button, Meadowrun.sheet('sheet-add'), async (form) => {
          if (!form.get('type')) return;
          Meadowrun.closePop();
          await this.change({do: 'add', type: form.get('type'), into});
        });
        if (/:c\d$/.test(into)) sheet.querySelector('[value=columns]')?.remove();
        Meadowrun.mark(sheet);
      },

      askWords(button, sheet, name, change) {
        Meadowrun.pop(button, Meadowrun.sheet(sheet), async (form) => {
          if (await this.change({...change, [name]: form.get(name)})) Meadowrun.closePop();
        });
      },

      comment(button, line) {
        Meadowrun.pop(button, Meadowrun.sheet('sheet-comment'), async (form) => {
          try {
            await Meadowrun.post(this.$root.dataset.base + '/comments', {
              line,
              text: form.get('text'),
            });
            Meadowrun.closePop();
            this.save({redraw: true});
          } catch (problem) {
            Meadowrun.say(problem.message);
          }
        });
      },

      async suggest(button, line, slot) {
        await this.save();
        Meadowrun.suggest(button, this.$root.dataset.base, line, slot, async (text) => {
          await this.change({do: 'suggested', line, slot, text});
          this.lines().querySelector(`[data-line="${line}"][data-slot="${slot}"]`)?.focus();
        });
      },

      askWho(button) {
        const {line, name} = button.dataset;
        Meadowrun.who(JSON.parse(button.dataset.lines), name, (lines, called) =>
          this.change({do: 'ask', line, lines, name: called}),
        );
      },

      format(button) {
        const place = this.inkOf(button);
        place.focus();
        const range = Meadowrun.ink.chosen(place);
        if (!range) {
          Meadowrun.say(Meadowrun.wording('Choose the words first.'), 'hint');
          return;
        }
        const {format} = button.dataset;
        if (format !== 'link' && format !== 'colour') {
          this.formatted(place, range, format);
          return;
        }
        const sheet = Meadowrun.pop(button, Meadowrun.sheet(`sheet-${format}`), (form) => {
          Meadowrun.closePop();
          const value = form.get(format);
          this.formatted(place, range, format, format === 'link' ? completed(value) : value);
        });
        const link = Meadowrun.ink.linkAt(place, range);
        if (format === 'link' && link) sheet.elements.link.value = link;
      },

      formatted(place, range, format, value) {
        Meadowrun.say('');
        place.focus();
        Meadowrun.ink[format](place, range, value);
        this.typedIn(place);
      },

      // Selecting a line on either side selects it on the other.

      pressing() {
        pressed = true;
      },

      released() {
        setTimeout(() => {
          pressed = false;
        });
      },

      focused(event) {
        if (!pressed) this.selected(event);
      },

      selected(event) {
        const row = event.target.closest('.line');
        if (!row || row.classList.contains('here')) return;
        this.select(row.dataset.id, row);
      },

      select(id, place) {
        here = id;
        this.lines()
          .querySelectorAll('.line.here')
          .forEach((one) => one.classList.remove('here'));
        (place || this.row(id))?.classList.add('here');
        window.dispatchEvent(new CustomEvent('line-selected', {detail: id}));
      },

      // A click in the preview.
      found(event) {
        const row = this.row(event.detail);
        if (!row) return;
        this.select(event.detail);
        row.scrollIntoView({block: 'center'});
        this.enter(event.detail);
      },

      goTo(where) {
        const [line, slot] = where.split(':');
        const at = `[data-line="${line}"][data-slot="${slot}"]`;
        const place =
          slot === 'add'
            ? document.getElementById('add-line')
            : this.lines().querySelector(at) ||
              this.row(line)?.querySelector('.ink, button, input, select') ||
              this.lines().querySelector(`[data-line="${line}"]`);
        if (!place) return;
        const closed = place.closest('details');
        if (closed) closed.open = true;
        place.scrollIntoView({block: 'center'});
        place.focus();
      },

      sought(event) {
        this.goTo(event.detail);
      },

      sortable() {
        if (!window.Sortable) return;
        const still = matchMedia('(prefers-reduced-motion: reduce)').matches;
        const draggable = '.line[data-id]:not([data-id=""])';
        this.lines()
          .querySelectorAll('[data-into]')
          .forEach((list) =>
            window.Sortable.create(list, {
              group: 'lines',
              handle: '.what',
              animation: still ? 0 : 120,
              draggable,
              onEnd: async ({item, to}) => {
                const index = [...to.children].filter((r) => r.matches(draggable)).indexOf(item);
                const change = {do: 'put', line: item.dataset.id, into: to.dataset.into, index};
                // Where it may not stand it goes back to where it was.
                if (!(await this.change(change))) await this.redrawn();
              },
            }),
          );
      },

      async redrawn() {
        const said = document.getElementById('said')?.textContent;
        await this.save({redraw: true});
        if (said) Meadowrun.say(said);
      },
    };
  });

  // The right column: a finding leads to its place, a number reads as one of its people.
  Alpine.data('margin', () => ({
    show(event) {
      this.$root.innerHTML = event.detail.margin;
    },

    clicked(event) {
      const button = event.target.closest('[data-goto], [data-as], [data-do]');
      if (!button) return;
      const tell = (name, detail) => window.dispatchEvent(new CustomEvent(name, {detail}));
      if (button.dataset.as) tell('read-as', button.dataset.as);
      else if (button.dataset.goto) tell('line-sought', button.dataset.goto);
      else this.change({...button.dataset});
    },
  }));
});
