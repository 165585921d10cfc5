// Really follows the links of a message, when asked to.
document.getElementById('follow')?.addEventListener('click', async (event) => {
  const box = document.getElementById('links');
  event.target.disabled = true;
  try {
    const answer = await Meadowrun.post(box.dataset.to, {});
    for (const link of answer.links) {
      const row = [...box.querySelectorAll('li')].find(
        (li) => li.dataset.href.replace(/&amp;/g, '&') === link.href.replace(/&amp;/g, '&'),
      );
      const said = row && row.querySelector('span');
      if (said) {
        said.textContent = link.said;
        said.className = link.good ? 'good' : 'lost';
      }
    }
  } catch (problem) {
    Meadowrun.say(problem.message);
  }
  event.target.disabled = false;
});
