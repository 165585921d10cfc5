// The calendar: a send that is clicked is told of beside it; one that is dragged, or moved by keys,
// is moved only after one has read what that does.
document.addEventListener('alpine:init', () => {
  const DAYS = {ArrowLeft: -1, ArrowRight: 1, ArrowUp: -7, ArrowDown: 7};

  Alpine.data('calendar', () => ({
    init() {
      this.$root.addEventListener('dragstart', (event) => {
        const entry = event.target.closest('[data-movable]');
        if (entry) event.dataTransfer.setData('text/plain', entry.dataset.send);
      });
      this.$root.addEventListener('dragover', (event) => {
        if (event.target.closest('[data-day]')) event.preventDefault();
      });
      this.$root.addEventListener('drop', (event) => {
        const day = event.target.closest('[data-day]');
        const send = event.dataTransfer.getData('text/plain');
        if (!day || !send) return;
        event.preventDefault();
        this.ask(send, day.dataset.day);
      });
    },

    async clicked(event) {
      if (event.target.closest('[data-leave]')) {
        this.$refs.side.textContent = '';
        return;
      }
      const entry = event.target.closest('[data-send]');
      if (entry) await this.tell(`${this.$root.dataset.about}?send=${entry.dataset.send}`);
    },

    async keyed(event) {
      const entry = event.target.closest('[data-send]');
      if (!entry) return;
      if (event.key === 'Enter') await this.clicked(event);
      if (!event.altKey || !(event.key in DAYS) || !('movable' in entry.dataset)) return;
      event.preventDefault();
      // Pressed again before it is moved, it goes on from where it was meant to go.
      const from =
        this.meant === entry.dataset.send ? this.day : entry.closest('[data-day]').dataset.day;
      const day = new Date(`${from}T12:00:00Z`);
      day.setUTCDate(day.getUTCDate() + DAYS[event.key]);
      await this.ask(entry.dataset.send, day.toISOString().slice(0, 10));
    },

    async ask(send, day) {
      Object.assign(this, {meant: send, day});
      await this.tell(`${this.$root.dataset.ask}?send=${send}&day=${day}`);
      this.$refs.side.querySelectorAll('[data-from]').forEach((input) => {
        input.value = this.$root.dataset[input.dataset.from];
      });
      const move = this.$refs.side.querySelector('.btn-primary');
      if (move && !document.activeElement.closest('[data-send]')) move.focus();
    },

    async tell(address) {
      const part = await Meadowrun.part(address);
      if (part !== null) this.$refs.side.innerHTML = part;
    },

    narrow(event) {
      event.target.form.submit();
    },
  }));
});
