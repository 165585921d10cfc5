// The observatory's website tells Meadowrun's script what a visitor did.
document.querySelectorAll('[data-event]').forEach((button) => button.addEventListener('click', async () => {
  const details = {};
  if (button.dataset.amount) details.amount = Number(button.dataset.amount);
  if (button.dataset.tier) details.tier = button.dataset.tier;
  const known = await meadowrun.event(button.dataset.event, details);
  document.getElementById('said').textContent = known ? 'Thank you! It is booked.' : 'Thank you! (You did not come by a mail, so nobody was told.)';
}));

// A browser would ask its push service for a subscription; here the village's does.
document.getElementById('allow').addEventListener('click', async () => {
  const visitor = localStorage.getItem('mr-visitor');
  const answer = visitor ? await (await fetch('/browser/subscribe', {method: 'POST', headers: {'Content-Type': 'application/json'}, body: JSON.stringify({visitor})})).json() : {subscribed: false};
  document.getElementById('said').textContent = answer.subscribed ? 'Thank you! You will hear of clear nights.' : 'Only those who came by a mail are known here.';
});
