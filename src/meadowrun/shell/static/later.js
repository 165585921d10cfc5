// What is dear to work out: asked for behind the page's frame, shown when it comes, stopped when
// nobody wants it.
(() => {
  const place = document.getElementById('later');
  const said = document.getElementById('later-said'),
    seconds = document.getElementById('later-seconds');
  const halt = document.getElementById('later-stop'),
    again = document.getElementById('later-again');
  let token = '',
    control = null,
    clock = null;

  async function work() {
    token = Meadowrun.token();
    control = new AbortController();
    again.hidden = true;
    halt.hidden = false;
    said.textContent = 'It appears here when it is ready.';
    const began = Date.now();
    clock = setInterval(() => {
      seconds.textContent = Math.round((Date.now() - began) / 1000) + ' s';
    }, 1000);
    try {
      const response = await fetch(location.href, {
        headers: {'X-Later': token, Accept: 'text/html'},
        signal: control.signal,
      });
      clearInterval(clock);
      // What was worked out waits for the next asking. Anything else, like a redirection, shows
      // itself there, too.
      if (response.ok) location.replace(response.url);
      else {
        said.textContent = 'It could not be loaded.';
        halt.hidden = true;
        again.hidden = false;
      }
    } catch (problem) {
      clearInterval(clock);
      if (problem.name !== 'AbortError') {
        said.textContent = 'Meadowrun does not answer.';
        halt.hidden = true;
        again.hidden = false;
      }
    }
  }

  function stop() {
    control.abort();
    clearInterval(clock);
    const form = new FormData();
    form.set('token', token);
    fetch(place.dataset.stop, {
      method: 'POST',
      headers: {'X-CSRFToken': document.querySelector('meta[name=csrf]').content},
      body: form,
      keepalive: true,
    });
    said.textContent = 'Stopped.';
    seconds.textContent = '';
    halt.hidden = true;
    again.hidden = false;
    again.focus();
  }

  halt.addEventListener('click', stop);
  again.addEventListener('click', work);
  work();
})();
