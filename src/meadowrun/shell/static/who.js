// Who reads a version or some words: the same lines as a segment's, in a sheet over the page.
document.addEventListener('alpine:init', () => {
  Alpine.data('who', () => {
    let lines = [];
    let taking = null;

    return {
      name: '',
      nameless: false,
      what: '',

      asked(event) {
        const {called} = event.detail;
        taking = event.detail.taking;
        this.name = called || '';
        this.nameless = called === null;
        this.what = this.nameless
          ? Meadowrun.wording('these words')
          : Meadowrun.wording('this version');
        this.$dispatch('who-lines', {format: 1, lines: structuredClone(event.detail.lines)});
        this.$root.show();
        this.$root.scrollIntoView({block: 'center'});
      },

      changed(event) {
        lines = event.detail.definition.lines;
      },

      undo() {
        this.$dispatch('who-undo');
      },

      async take() {
        if ((await taking(lines, this.name)) !== false) this.$root.close();
      },
    };
  });
});

// Opens the sheet. `called` is a version's name; words have none. `taking` gets the lines and the
// name; false leaves the sheet open.
Meadowrun.who = (lines, called, taking) =>
  window.dispatchEvent(new CustomEvent('who-asked', {detail: {lines, called, taking}}));
