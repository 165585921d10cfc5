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
  const answer = await fetch(
    `${chosen.dataset.numbers}?country=${encodeURIComponent(chosen.value)}`,
  );
  if (answer.ok) document.getElementById('numbers').innerHTML = await answer.text();
});
