// The newest draft of what somebody writes. Changes are small verbs; what is typed waits for a pause.
// The server applies them by its rules and answers with what follows, which every part of the page
// hears as “draft-saved”.
document.addEventListener('alpine:init', () => {
  Alpine.data('draft', () => {
    let page = null;
    let pending = [];
    let newest = null;
    let version = 0;
    let number = 0;
    let timer = null;
    let flying = 0;
    let busy = Promise.resolve();
    // The step now shown is the last of `past`; what was undone waits in `future`.
    const past = [];
    let future = [];

    // What is typed twice in one place counts once.
    function queue(change) {
      const same = (one) =>
        one.do === 'set' && one.line === change.line && one.slot === change.slot;
      if (change.do === 'set') pending = pending.filter((one) => !same(one));
      pending.push(change);
    }

    function remember() {
      const now = JSON.stringify(newest);
      if (past[past.length - 1] === now) return;
      past.push(now);
      future = [];
    }

    return {
      state: '',
      noUndo: true,
      noRedo: true,

      init() {
        page = this.$root.dataset;
        newest = JSON.parse(page.document);
        [version, number] = [Number(page.version), Number(page.draft)];
        past.push(JSON.stringify(newest));
        this.state = document.getElementById('saved').textContent;
        Meadowrun.saveNow = () => this.save();
        window.addEventListener('beforeunload', (event) => {
          if (pending.length || flying) event.preventDefault();
        });
      },

      newest() {
        return newest;
      },

      number() {
        return number;
      },

      tell(what) {
        this.state = `${page.called} ${number} · ${what}`;
      },

      // Resolves to the answer once the change is saved; undefined where it could not be.
      change(change, redraw) {
        queue(change);
        this.tell(Meadowrun.wording('writing …'));
        clearTimeout(timer);
        if (change.do !== 'set' || redraw) return this.save({redraw: redraw === true});
        timer = setTimeout(() => this.save(), 450);
        return busy;
      },

      save(more) {
        clearTimeout(timer);
        this.tell(Meadowrun.wording('writing …'));
        const saving = busy.then(() => this.post(more || {}));
        busy = saving.catch(() => {});
        return saving;
      },

      async post({step, ...more}) {
        const sent = pending;
        pending = [];
        flying += 1;
        try {
          const answer = await Meadowrun.post(page.save, {
            version,
            changes: sent,
            ...more,
          });
          ({version, document: newest} = answer);
          number = answer.draft;
          this.taken(answer, step);
          return answer;
        } catch (problem) {
          if (problem.status === undefined) throw problem;
          this.refused(problem, sent);
          return undefined;
        } finally {
          flying -= 1;
        }
      },

      taken(answer, step) {
        if (!step) remember();
        this.steps();
        Meadowrun.say('');
        if (!pending.length) this.tell(Meadowrun.wording('saved %(time)s', {time: answer.saved}));
        // What was typed meanwhile would be drawn over: it is saved first.
        if (answer.lines && pending.length) {
          delete answer.lines;
          this.save({redraw: true});
        }
        window.dispatchEvent(new CustomEvent('draft-saved', {detail: answer}));
      },

      // What was typed is kept for the next try; what a rule refuses is let go.
      refused(problem, sent) {
        const kept = problem.status === 422 ? sent.filter((one) => one.do === 'set') : sent;
        const typed = pending;
        pending = [];
        [...kept, ...typed].forEach(queue);
        if (pending.length) this.state = Meadowrun.wording('Not saved yet');
        else this.tell(Meadowrun.wording('nothing changed'));
        if (problem.newest === undefined) Meadowrun.say(problem.message);
        else
          Meadowrun.conflict(
            problem,
            () => this.apart(problem.newest, false),
            () => this.apart(problem.newest, true),
          );
      },

      // Mine becomes a draft of its own after theirs; to open theirs, that one is made the newest
      // again.
      async apart(theirs, open) {
        version = theirs;
        const saved = await this.save({document: newest, apart: true, redraw: true});
        if (saved && open) await Meadowrun.restore(page.base, number - 1);
      },

      steps() {
        this.noUndo = past.length < 2;
        this.noRedo = !future.length;
      },

      async undo() {
        if (pending.length) await this.save();
        if (past.length < 2) return;
        future.push(past.pop());
        this.step();
      },

      redo() {
        if (!future.length) return;
        past.push(future.pop());
        this.step();
      },

      step() {
        this.save({document: JSON.parse(past[past.length - 1]), redraw: true, step: true});
      },

      keyed(event) {
        const typing = event.target.closest('input, textarea, [contenteditable]');
        if (!(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== 'z' || typing) return;
        event.preventDefault();
        if (event.shiftKey) this.redo();
        else this.undo();
      },
    };
  });
});
