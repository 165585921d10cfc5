// Tells Meadowrun what a known visitor does on this website, and shows the in-app message that comes of it.
// Known are those who came by a link in a message. Include it as <script src="…/site.js"
// data-key="site_…" defer></script>.
(() => {
  const script = document.currentScript;
  const home = new URL(script.src).origin;
  const key = script.dataset.key;
  const asked = new URLSearchParams(location.search);
  const given = asked.get('mr');
  const kept = (() => {
    try {
      return localStorage.getItem('mr-visitor');
    } catch (problem) {
      return null;
    }
  })();
  let visitor = given || kept;
  if (given) {
    // Whoever passes on the address of this page does not pass on who they are. The rest of it
    // stays as it was written.
    const rest = location.search
      .slice(1)
      .split('&')
      .filter((part) => !part.startsWith('mr='))
      .join('&');
    history.replaceState(
      history.state,
      '',
      location.pathname + (rest ? '?' + rest : '') + location.hash,
    );
  }
  const keep = (sign) => {
    visitor = sign;
    try {
      localStorage.setItem('mr-visitor', sign);
    } catch (problem) {
      /* private window */
    }
  };

  // Plain text keeps the browser from asking first whether it may ask.
  const post = (path, data) =>
    fetch(home + path, {
      method: 'POST',
      keepalive: true,
      headers: {'Content-Type': 'text/plain'},
      body: JSON.stringify({key, visitor, ...data}),
    })
      .then(async (answer) => (answer.ok ? answer.json() : null))
      .catch(() => null);

  // A page that is being left cannot show an in-app message: say so with {leaving: true}, and none is counted
  // as shown.
  async function event(name, details, id, more) {
    if (!visitor) return false;
    const data = {event: name, details: details || {}, id: id || null, ...(more || {})};
    let answer = await post('/site/events', data);
    if (!answer && kept && visitor === given && kept !== given) {
      // A link that was followed long ago, in a browser that is known anyhow.
      visitor = kept;
      answer = await post('/site/events', data);
    }
    if (answer && answer.visitor) keep(answer.visitor);
    if (answer && answer.in_app)
      show(answer.in_app, (button) => post('/site/in-app', {token: answer.in_app.token, button}));
    return Boolean(answer);
  }

  const bytes = (text) =>
    Uint8Array.from(atob(text.replace(/-/g, '+').replace(/_/g, '/')), (c) => c.charCodeAt(0));

  // The browser's own push service; the worker is a copy of ours, served by this website.
  async function subscription() {
    const worker = await navigator.serviceWorker.register(
      script.dataset.worker || '/site-worker.js',
    );
    await navigator.serviceWorker.ready;
    if ((await Notification.requestPermission()) !== 'granted') return null;
    const {key: server} = await (await fetch(home + '/site/push')).json();
    return (
      await worker.pushManager.subscribe({
        userVisibleOnly: true,
        applicationServerKey: bytes(server),
      })
    ).toJSON();
  }

  // Asks for permission to send push notifications; a website with a way of its own to subscribe names it in
  // meadowrun.subscription.
  async function allow() {
    if (!visitor) return false;
    try {
      const made = await window.meadowrun.subscription();
      const answer = made && (await post('/site/push', {subscription: made}));
      return Boolean(answer && answer.subscribed);
    } catch (problem) {
      return false;
    }
  }

  const LOOKS = `
    dialog { border: 0; padding: 0; background: var(--sheet); color: var(--ink); font-family: var(--font); max-width: none; max-height: none; overflow: auto; }
    dialog.box { width: min(var(--width), calc(100vw - 32px)); max-height: calc(100vh - 32px); border-radius: var(--round); box-shadow: 0 18px 60px rgba(0, 0, 0, .35); }
    dialog.full { width: 100vw; height: 100vh; inset: 0; margin: 0; }
    dialog::backdrop { background: rgba(18, 24, 21, .55); }
    .inner { display: flex; flex-direction: column; min-height: 100%; max-width: var(--width); margin: 0 auto; }
    .full .inner { justify-content: center; }
    iframe { border: 0; width: 100%; height: 120px; display: block; }
    .doing { display: flex; flex-wrap: wrap; gap: 10px; justify-content: center; padding: 4px 24px 24px; }
    button { font: inherit; font-size: 16px; padding: 11px 22px; border-radius: var(--round); cursor: pointer; border: 1px solid var(--accent); background: none; color: var(--accent); }
    button.first { background: var(--accent); color: var(--on-accent); }
    .close { position: absolute; top: 6px; right: 8px; border: 0; color: var(--ink); font-size: 22px; line-height: 1; padding: 8px 12px; }`;

  // Drawn in a tree of its own, so that neither side's looks touch the other's; its lines stand in
  // a frame where nothing runs.
  function show(message, answer) {
    const host = document.createElement('div');
    host.id = 'meadowrun-in-app';
    const root = host.attachShadow({mode: 'open'});
    const sheet = new CSSStyleSheet();
    sheet.replaceSync(LOOKS);
    root.adoptedStyleSheets = [sheet];
    const make = (tag, more) => Object.assign(document.createElement(tag), more);
    const dialog = make('dialog', {className: message.shape});
    dialog.setAttribute('aria-label', message.title);
    const looks = {
      width: message.looks.width + 'px',
      sheet: message.looks.sheet,
      ink: message.looks.ink,
      accent: message.looks.accent,
      'on-accent': message.looks.on_accent,
      round: message.looks.round + 'px',
      font: message.looks.text_font,
    };
    Object.entries(looks).forEach(([name, value]) => host.style.setProperty('--' + name, value));
    const frame = make('iframe', {title: message.title, srcdoc: message.html});
    frame.setAttribute('sandbox', 'allow-same-origin allow-popups allow-popups-to-escape-sandbox');
    const fit = () => {
      if (frame.contentDocument)
        frame.style.height = frame.contentDocument.documentElement.scrollHeight + 'px';
    };
    frame.addEventListener('load', () => {
      frame.contentDocument.head.append(
        Object.assign(frame.contentDocument.createElement('base'), {target: '_blank'}),
      );
      fit();
      frame.contentDocument
        .querySelectorAll('img')
        .forEach((image) => image.addEventListener('load', fit));
    });
    const leave = () => {
      dialog.close();
      host.remove();
    };
    const doing = make('div', {className: 'doing'});
    message.buttons.forEach((button, number) => {
      const drawn = make('button', {
        type: 'button',
        textContent: button.label,
        className: number ? '' : 'first',
      });
      drawn.addEventListener('click', async () => {
        leave();
        await answer(number);
        if (button.act === 'open' && button.href) location.assign(button.href);
        if (button.act === 'allow') allow();
      });
      doing.append(drawn);
    });
    const close = make('button', {type: 'button', className: 'close', textContent: '×'});
    close.setAttribute('aria-label', 'Close');
    close.addEventListener('click', () => {
      leave();
      answer(null);
    });
    dialog.addEventListener('cancel', () => {
      host.remove();
      answer(null);
    });
    const inner = make('div', {className: 'inner'});
    inner.append(frame, doing);
    dialog.append(close, inner);
    root.append(dialog);
    document.getElementById('meadowrun-in-app')?.remove();
    document.body.append(host);
    dialog.showModal();
  }

  window.meadowrun = {event, allow, subscription};
  if (asked.get('mr-in-app')) {
    fetch(
      `${home}/site/in-app/proof?key=${encodeURIComponent(key)}&proof=${encodeURIComponent(asked.get('mr-in-app'))}`,
    )
      .then((answer) => answer.json())
      .then((answer) => {
        if (answer.in_app) show(answer.in_app, async () => null);
      });
  }
  event('page_viewed', {page: location.pathname});
})();
