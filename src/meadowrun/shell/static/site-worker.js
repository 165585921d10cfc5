// Shows push notifications on a website. The website serves a copy of this file at its own address (see
// data-worker of site.js).
self.addEventListener('push', (event) => {
  const notification = event.data ? event.data.json() : {};
  const buttons = notification.buttons || [];
  const tag = crypto.randomUUID();
  event.waitUntil(
    (async () => {
      await self.registration.showNotification(notification.title || '', {
        body: notification.body || '',
        icon: notification.icon,
        image: notification.picture,
        tag,
        actions: buttons.map((button, number) => ({action: String(number), title: button.label})),
        data: {url: notification.url || '', buttons, own: notification.data || {}},
      });
      if (!notification.close_after) return;
      await new Promise((done) => setTimeout(done, notification.close_after * 1000));
      (await self.registration.getNotifications({tag})).forEach((shown) => shown.close());
    })(),
  );
});

// A button leads to its own address, the rest of the push notification to its own link; open pages get the
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
