// The segment's page: its lines, and saving them under a name.
document.addEventListener('alpine:init', () => {
  Alpine.data('segment', () => {
    let page = null;
    let definition = null;
    let version = null;
    let name = '';

    return {
      saved: true,
      noUndo: true,

      init() {
        page = this.$root.dataset;
        name = page.name;
        version = page.version ? Number(page.version) : null;
        definition = JSON.parse(page.definition);
        window.addEventListener('beforeunload', (event) => {
          if (!this.saved) event.preventDefault();
        });
      },

      changed(event) {
        definition = event.detail.definition;
        this.saved = false;
        this.noUndo = !event.detail.steps;
      },

      undo() {
        this.$dispatch('segment-undo');
      },

      askName(event) {
        const sheet = Meadowrun.pop(event.target, Meadowrun.sheet('save-form'), async (form) => {
          name = form.get('name');
          await this.save();
          Meadowrun.closePop();
        });
        sheet.elements.name.value = name;
        sheet.elements.name.select();
      },

      async save() {
        try {
          const answer = await Meadowrun.post(page.save, {
            definition,
            segment: page.segment ? Number(page.segment) : null,
            name,
            group: page.groupKey,
            version,
          });
          this.saved = true;
          location.href = answer.to;
        } catch (problem) {
          if (problem.newest === undefined) Meadowrun.say(problem.message);
          else this.choose(problem);
        }
      },

      // Of two who saved, the later is asked: mine becomes the newest version, or theirs is shown
      // and mine goes.
      choose(problem) {
        const mine = () => {
          version = problem.newest;
          this.save();
        };
        const theirs = () => {
          this.saved = true;
          location.reload();
        };
        Meadowrun.conflict(problem, mine, theirs, [
          Meadowrun.wording('Save mine (theirs stays among the earlier versions)'),
          Meadowrun.wording('Open theirs (mine is gone)'),
        ]);
      },
    };
  });
});
