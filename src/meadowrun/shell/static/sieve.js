// Lines of a definition beside their sieve, inside any element that has places for its parts. Every
// change is worked out on the server and comes back drawn. What is counted exactly comes behind.
document.addEventListener('alpine:init', () => {
  Alpine.data('sieve', () => {
    let definition = {format: 1, lines: []};
    let segment = null;
    const past = [];
    let busy = Promise.resolve();
    let behind = null;

    return {
      init() {
        const page = this.$root.dataset;
        if (page.definition) definition = JSON.parse(page.definition);
        segment = page.segment ? Number(page.segment) : null;
        this.settle();
      },

      // Other lines, from the beginning: the detail of the event.
      async start(event) {
        definition = event.detail;
        past.length = 0;
        this.tell();
        this.draw(await this.look(), '#narrow');
      },

      // Whoever has the sieve on their page keeps what it says.
      tell() {
        this.$dispatch('sieve-changed', {definition, steps: past.length});
      },

      look(more) {
        return Meadowrun.post('/segments/look', {definition, segment, ...more});
      },

      draw(answer, focus) {
        this.cease();
        for (const [part, html] of Object.entries(answer.parts)) {
          const place = this.$root.querySelector(`[data-part=${part}]`);
          if (place) place.innerHTML = html;
        }
        const target = focus && this.$root.querySelector(focus);
        if (target) target.focus();
        this.settle();
      },

      // One change after the other, so that fast typing never loses one.
      change(what, focus) {
        busy = busy.then(async () => {
          try {
            const answer = await this.look({change: what});
            past.push(definition);
            definition = answer.definition;
            Meadowrun.say('');
            this.tell();
            this.draw(answer, typeof focus === 'function' ? focus(answer) : focus);
            Meadowrun.closePop();
          } catch (problem) {
            Meadowrun.say(problem.message);
          }
        });
        return busy;
      },

      async undo() {
        if (!past.length) return;
        definition = past.pop();
        this.tell();
        this.draw(await this.look(), '#narrow');
      },

      // What is estimated, or of a while ago, is worked out exactly behind it, until something else
      // is asked for or it is stopped.
      async settle() {
        const place = this.$root.querySelector('[data-more]');
        if (!place) return;
        const token = Meadowrun.token();
        behind = {token, address: place.dataset.more};
        try {
          const answer = await this.look({exact: token});
          // A small form that is open keeps its place until it is closed.
          while (document.querySelector('.pop'))
            await new Promise((done) => {
              setTimeout(done, 300);
            });
          if (!behind || behind.token !== token) return;
          behind = null;
          this.draw(answer, this.focused());
        } catch (problem) {
          if (behind && behind.token === token) this.stopped(problem.message);
        }
      },

      // Where the focus is, to be put back after the parts are drawn anew.
      focused() {
        const now = document.activeElement;
        if (!now || !this.$root.contains(now)) return '';
        const {line, slot} = now.dataset;
        if (slot) return `[data-line="${line}"][data-slot="${slot}"]`;
        return now.id ? `#${now.id}` : '';
      },

      cease() {
        if (!behind) return;
        const form = new FormData();
        form.set('token', behind.token);
        fetch(behind.address, {
          method: 'POST',
          headers: {'X-CSRFToken': Meadowrun.csrf()},
          body: form,
          keepalive: true,
        });
        behind = null;
      },

      stopped(why) {
        this.cease();
        const place = this.$root.querySelector('[data-more]');
        if (!place) return;
        place.querySelector('[data-said]').textContent = why;
        const button = place.querySelector('[data-stop]');
        button.textContent = Meadowrun.wording('Show it');
        button.dataset.stop = 'again';
      },

      clicked(event) {
        const button = event.target.closest('button');
        if (!button) return;
        const {line, slot, group, out} = button.dataset;
        if ('stop' in button.dataset) this.stopOrGoOn(button);
        else if (slot) this.open(button, line, slot);
        else if (button.dataset.lost) Meadowrun.lost(button, definition, button.dataset.lost);
        else if (button.dataset.do) this.change({do: button.dataset.do, id: line}, '#narrow');
        else if (group)
          this.change(
            {do: 'group', match: group},
            (answer) => `.sieve-row.in [data-add="${answer.touched}"]`,
          );
        else if ('add' in button.dataset) this.add(button, button.dataset.add, Boolean(out));
      },

      stopOrGoOn(button) {
        if (button.dataset.stop !== 'again') {
          this.stopped(Meadowrun.wording('Stopped.'));
          return;
        }
        button.dataset.stop = '';
        button.textContent = Meadowrun.wording('Stop');
        this.settle();
      },

      // The small form behind a word of a line.
      async open(button, id, slot) {
        const here = `[data-line="${id}"][data-slot="${slot}"]`;
        try {
          await Meadowrun.askLine(button, {definition, id, slot}, (form, line) => {
            if (form.get('turn'))
              this.change(
                {do: 'set', id, patch: {did: false}},
                `[data-line="${id}"][data-slot=did]`,
              );
            else if (line) this.change({do: 'become', id, ...line}, `[data-line="${id}"].word`);
            else this.change({do: 'answer', id, slot, form: [...form.entries()]}, here);
          });
        } catch (problem) {
          Meadowrun.say(problem.message);
        }
      },

      async add(button, into, out) {
        try {
          await Meadowrun.askLine(button, {definition, slot: 'new'}, (form, line) => {
            if (line)
              this.change(
                {do: 'add', ...line, into, out},
                (answer) => `[data-line="${answer.touched}"].word`,
              );
          });
        } catch (problem) {
          Meadowrun.say(problem.message);
        }
      },

      // One key for each way to go on: / narrows, - leaves out, g begins a group.
      keyed(event) {
        if (!this.$root.offsetParent) return;
        if (event.target.closest('input, textarea, select, [contenteditable]')) return;
        const held = event.ctrlKey || event.metaKey;
        if (held && event.key === 'z') {
          event.preventDefault();
          this.undo();
        }
        if (held || event.altKey || document.querySelector('.pop')) return;
        const way = {'/': '#narrow', '-': '[data-out]', g: '[data-group]'}[event.key];
        const button = way && this.$root.querySelector(way);
        if (button) {
          event.preventDefault();
          button.click();
        }
      },
    };
  });
});
