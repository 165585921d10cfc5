// The observatory's website tells Meadowrun's script what a visitor did.
document.querySelectorAll('[data-event]').forEach((button) => button.addEventListener('click', async () => {
  const details = {};
  if (button.dataset.amount) details.amount = Number(button.dataset.amount);
  if (button.dataset.tier) details.tier = button.dataset.tier;
  const known = await meadowrun.event(button.dataset.event, details);
  document.getElementById('said').textContent = known ? 'Thank you! It is booked.' : 'Thank you! (You did not come by a mail, so nobody was told.)';
}));
