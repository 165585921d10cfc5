// The observatory's website tells Meadowrun's script what a visitor did.
const said = document.getElementById('said');
document.querySelectorAll('[data-event]').forEach((button) =>
  button.addEventListener('click', async () => {
    const details = {};
    const {event, ...told} = button.dataset;
    for (const [name, value] of Object.entries(told)) {
      details[name] = Number.isNaN(Number(value)) ? value : Number(value);
    }
    const known = await meadowrun.event(event, details);
    said.textContent = known
      ? 'Thank you! It is booked.'
      : 'Thank you! (You did not come from an email, so this was not reported.)';
  }),
);

// A browser would ask its maker's push service, which is out of reach here: the village's gives the
// subscription instead.
const villagers = async (path) =>
  (
    await fetch(path, {
      method: 'POST',
      headers: {'Content-Type': 'application/json'},
      body: JSON.stringify({visitor: localStorage.getItem('mr-visitor')}),
    })
  ).json();
meadowrun.subscription = () => villagers('/browser/subscribe');
document.getElementById('allow').addEventListener('click', async () => {
  said.textContent = (await meadowrun.allow())
    ? 'Thank you! You will hear of clear nights.'
    : 'Only people who came from an email are known here.';
});
document.getElementById('app').addEventListener('click', async () => {
  const answer = localStorage.getItem('mr-visitor') ? await villagers('/app/install') : {};
  if (!answer.app) {
    said.textContent = 'Only people who came from an email are known here.';
    return;
  }
  const link = Object.assign(document.createElement('a'), {
    href: answer.app,
    textContent: 'Take a look',
  });
  said.replaceChildren('The app is on your phone. ', link);
});
