// Shows push notices on a website. The website serves a copy of this file at its own address (see
// data-worker of site.js).
self.addEventListener('push', (event) => {
  const notice = event.data ? event.data.json() : {};
  const buttons = notice.buttons || [];
  const tag = crypto.randomUUID();
  event.waitUntil(
    (async () => {
      await self.registration.showNotification(notice.title || '', {
        body: notice.body || '',
        icon: notice.icon,
        image: notice.picture,
        tag,
        actions: buttons.map((button, number) => ({action: String(number), title: button.label})),
        data: {url: notice.url || '', buttons, own: notice.data || {}},
      });
      if (!notice.close_after) return;
      await new Promise((done) => setTimeout(done, notice.close_after * 1000));
      (await self.registration.getNotifications({tag})).forEach((shown) => shown.close());
    })(),
  );
});

// A button leads to its own address, the rest of the notice to the notice's; open pages get the
// keys of one's own.
self.addEventListener('notificationclick', (event) => {
  const {url, buttons, own} = event.notification.data;
  const button = event.action === '' ? null : buttons[Number(event.action)];
  event.notification.close();
  event.waitUntil(
    (async () => {
      (await self.clients.matchAll({type: 'window'})).forEach((page) =>
        page.postMessage({meadowrun: {button: button ? button.label : '', ...own}}),
      );
      const target = button ? button.href : url;
      if (target) await self.clients.openWindow(target);
    })(),
  );
});
