// Matching columns: the name and type of a new field appear only when one is asked for.
document.addEventListener('alpine:init', () => {
  Alpine.data('matching', () => ({
    fresh: false,
    init() { this.fresh = this.$el.dataset.start === 'new'; },
    pick(event) { this.fresh = event.target.value === 'new'; },
  }));
});
