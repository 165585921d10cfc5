// Tells Meadowrun what a known visitor does on this website. Known are those who came by a link in a mail.
(() => {
  const script = document.currentScript;
  const home = new URL(script.src).origin;
  const key = script.dataset.key;
  const given = new URLSearchParams(location.search).get('mr');
  try { if (given) localStorage.setItem('mr-visitor', given); } catch (problem) { /* private window */ }
  const visitor = given || (() => { try { return localStorage.getItem('mr-visitor'); } catch (problem) { return null; } })();
  function event(name, details, id) {
    if (!visitor) return Promise.resolve(false);
    return fetch(home + '/site/events', {
      method: 'POST', keepalive: true, headers: {'Content-Type': 'application/json'},
      body: JSON.stringify({key, visitor, event: name, details: details || {}, id: id || null}),
    }).then((answer) => answer.ok).catch(() => false);
  }
  window.meadowrun = {event};
  event('page_viewed', {page: location.pathname});
})();
