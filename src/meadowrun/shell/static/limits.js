// Message limits: a number that is changed is tried at once on what really happened, and saved only
// when one says so.
document.addEventListener('alpine:init', () => {
  Alpine.data('limits', () => ({
    tried: 0,
    asked: 0,

    get said() {
      return this.tried === 1
        ? Meadowrun.wording('1 number tried, not saved')
        : Meadowrun.wording('%(n)s numbers tried, not saved', {n: this.tried});
    },

    changed() {
      const inputs = [...this.$root.querySelectorAll('input.cap')];
      const others = inputs.filter((input) => input.value !== input.defaultValue);
      const more = this.$root.querySelector('[name=more]');
      this.tried = others.length + (more && more.checked ? 1 : 0);
      clearTimeout(this.waits);
      this.waits = setTimeout(() => this.show(), 250);
    },

    // What the numbers would have done; an answer that comes after a later question is dropped.
    async show() {
      this.asked += 1;
      const mine = this.asked;
      const tried = await Meadowrun.part(this.$root.dataset.try, {
        method: 'POST',
        body: new FormData(this.$root),
      });
      if (mine === this.asked && tried !== null) this.$refs.tried.innerHTML = tried;
    },
  }));
});
