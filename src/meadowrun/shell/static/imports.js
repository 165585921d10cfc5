// Matching columns: the name and type of a new field appear only when one is asked for.
document.addEventListener('alpine:init', () => {
  Alpine.data('matching', () => ({
    fresh: false,
    init() {
      this.fresh = this.$el.dataset.start === 'new';
    },
    pick(event) {
      this.fresh = event.target.value === 'new';
    },
  }));
});

// What choosing a country makes of the first telephone numbers.
document.addEventListener('change', async (event) => {
  const chosen = event.target.closest('[data-numbers]');
  if (!chosen) return;
  const country = encodeURIComponent(chosen.value);
  const numbers = await Meadowrun.part(`${chosen.dataset.numbers}?country=${country}`);
  if (numbers !== null) document.getElementById('numbers').innerHTML = numbers;
});
