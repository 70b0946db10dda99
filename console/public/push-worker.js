// Shows what is pushed to the installed page, and opens what it is about. An act opens the page that says what will
// happen; nothing is done before a press there.
self.addEventListener("push", (event) => {
  const said = event.data.json();
  const options = {
    body: said.body,
    tag: said.tag,
    icon: "/icon.svg",
    data: { url: said.url, acts: said.acts.map((a) => a.url) },
    actions: said.acts.map((a, n) => ({ action: String(n), title: a.text })),
  };
  event.waitUntil(self.registration.showNotification(said.again ? `${said.title} (perhaps repeated)` : said.title, options));
});

self.addEventListener("notificationclick", (event) => {
  event.notification.close();
  const { url, acts } = event.notification.data;
  event.waitUntil(self.clients.openWindow((event.action ? acts[Number(event.action)] : url) || "/notices"));
});
