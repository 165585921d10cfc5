// The parts of every page's head: menus, the clock of a demo, the one box; and how much would be
// deleted.
document.addEventListener('alpine:init', () => {
  const drop = () => ({
    open: false,
    toggle() {
      this.open = !this.open;
    },
    close() {
      this.open = false;
    },
  });
  Alpine.data('menu', drop);
  Alpine.data('clock', () => ({
    open: false,
    moving: false,
    shown: '',
    timer: null,
    init() {
      this.shown = this.$el.querySelector('span').textContent;
      this.timer = setInterval(() => this.look(), 20000);
      this.look();
    },
    toggle() {
      this.open = !this.open;
    },
    close() {
      this.open = false;
    },
    async look() {
      try {
        const state = await (
          await fetch('/clock', {headers: {Accept: 'application/json', 'X-By-Itself': '1'}})
        ).json();
        if (state.shown) this.shown = state.shown;
        const was = this.moving;
        this.moving = state.moving;
        if (this.moving) setTimeout(() => this.look(), 700);
        else if (was) location.reload();
      } catch (problem) {
        /* the next look will tell */
      }
    },
    async move(by) {
      this.moving = true;
      const form = new FormData();
      form.set('by', by);
      form.set('csrf_token', Meadowrun.csrf());
      await fetch('/clock/forward', {
        method: 'POST',
        body: form,
        headers: {Accept: 'application/json'},
      });
      setTimeout(() => this.look(), 1500);
    },
  }));
  // The campaign of a new send: the name of a new one is asked where none is chosen.
  Alpine.data('begins', () => ({
    campaign: '',

    init() {
      this.campaign = this.$root.dataset.chosen;
    },

    get fresh() {
      return this.campaign === 'new';
    },
  }));
  // Rows that are ticked in a table, and how many they are.
  Alpine.data('chosen', () => ({
    many: 0,

    count() {
      this.many = this.$root.querySelectorAll('[name=contact]:checked').length;
    },

    // Enter in a field does what the field is for, and not what stands first.
    tag() {
      this.$root.querySelector('[value=tag]').click();
    },

    put() {
      this.$root.querySelector('[value=list]').click();
    },

    consent() {
      this.$root.querySelector('[value=consent]').click();
    },

    all(event) {
      for (const box of this.$root.querySelectorAll('[name=contact]'))
        box.checked = event.target.checked;
      this.count();
    },
  }));
  // How much a length of time would delete, beside where it is chosen.
  Alpine.data('retention', () => ({
    async look(select, place) {
      place.textContent = '…';
      const answer = await Meadowrun.data(`/retention/${select.name}/older?months=${select.value}`);
      const shown = document.documentElement.dataset.locale;
      place.textContent = answer ? answer.older.toLocaleString(shown) : '';
    },
  }));
  Alpine.data('find', () => ({
    found: [],
    at: 0,
    nothing: false,
    async look() {
      const words = this.$refs.words.value;
      const answer = await Meadowrun.asked('/find', {q: words});
      if (!answer || words !== this.$refs.words.value) return;
      this.found = answer.found;
      this.at = 0;
      this.nothing = this.found.length === 0;
    },
    down() {
      if (this.at < this.found.length - 1) this.at++;
    },
    up() {
      if (this.at > 0) this.at--;
    },
    go() {
      if (this.found[this.at]) location.href = this.found[this.at].to;
    },
  }));
});
