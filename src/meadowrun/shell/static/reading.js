// The preview: an email or in-app message in a frame of its own size, as a chosen person sees it.
document.addEventListener('alpine:init', () => {
  const put = (id, text) => {
    document.getElementById(id).textContent = text;
  };

  const frame = () => document.getElementById('read');

  // What all channels have: whom one reads as, and reading again after each change.
  const asSomebody = {
    person: '',

    begin() {
      this.person = this.$root.dataset.person;
      Meadowrun.readAs(
        this.$root.dataset.base,
        () => this.person,
        (id) => this.as(id),
      );
      this.read();
    },

    // Whom somebody has chosen is who reads their next message, too.
    as(id) {
      this.person = id;
      Meadowrun.post('/messages/reads-as', {
        person: Number(id),
        segment: Number(document.getElementById('through').value),
      }).catch(() => {});
      this.read();
    },

    asked(event) {
      this.as(event.detail);
    },

    async read() {
      const answer = await Meadowrun.data(`${this.$root.dataset.read}/read?as=${this.person}`);
      if (!answer) return;
      put('read-as', answer.name);
      const proof = document.getElementById('p-as');
      if (proof) proof.value = answer.person || '';
      this.draw(answer);
    },
  };

  Alpine.data('readMail', () => ({
    ...asSomebody,
    look: 'desktop',
    here: '',

    init() {
      frame().addEventListener('load', () => this.loaded());
      this.begin();
    },

    draw(answer) {
      put('read-subject', answer.subject);
      put('read-preheader', answer.preheader);
      put('read-plain', answer.text);
      const query = `as=${this.person}&look=${encodeURIComponent(this.look)}`;
      frame().src = `${this.$root.dataset.read}/read.html?${query}&at=${this.number()}-${Date.now()}`;
    },

    looked(event) {
      this.show(event.target.dataset.look);
    },

    choseReader(event) {
      this.show(event.target.value || 'desktop');
    },

    show(name) {
      this.look = name;
      this.$root
        .querySelectorAll('[data-look]')
        .forEach((b) => b.setAttribute('aria-pressed', String(b.dataset.look === name)));
      document.getElementById('read-box').classList.toggle('phone', name === 'phone');
      frame().hidden = name === 'plain';
      document.getElementById('read-plain').hidden = name !== 'plain';
      this.read();
    },

    // What stands in the frame never runs; only its clicks are heard.
    loaded() {
      const inside = frame().contentDocument;
      if (!inside || !inside.body) return;
      this.fit(inside);
      inside.addEventListener('click', (event) => {
        event.preventDefault();
        const shown = event.target.closest('[class*="ln-"]');
        const mark = shown && [...shown.classList].find((c) => c.startsWith('ln-'));
        if (!mark) return;
        const detail = mark.slice(3).split('-')[0];
        window.dispatchEvent(new CustomEvent('line-found', {detail}));
      });
      this.mark(false);
    },

    // A desktop is wider than this half of the page: the mail is laid out at its own width and
    // drawn smaller.
    fit(inside) {
      const {style} = frame();
      const phone = this.look === 'phone';
      const page = this.newest();
      const room = document.getElementById('read-box').clientWidth - 28;
      const own = page.settings.width + (page.in_app ? 300 : 40);
      const wanted = phone ? 375 : Math.max(room, own);
      const scale = phone ? 1 : room / wanted;
      style.width = `${wanted}px`;
      style.height = '400px';
      const height = inside.documentElement.scrollHeight + 4;
      style.height = `${Math.max(400, Math.min(4000, height))}px`;
      const less = (size) => (scale < 1 ? `${-size * (1 - scale)}px` : '');
      style.transform = scale < 1 ? `scale(${scale})` : '';
      style.marginBottom = less(frame().offsetHeight);
      style.marginRight = less(wanted);
    },

    selected(event) {
      this.here = event.detail;
      this.mark(true);
    },

    mark(scroll) {
      const inside = frame().contentDocument;
      if (!inside) return;
      inside.querySelectorAll('[data-here]').forEach((one) => {
        one.style.outline = '';
        delete one.dataset.here;
      });
      const shown = this.here && inside.querySelector(`.ln-${this.here}`);
      if (!shown) return;
      shown.dataset.here = '1';
      shown.style.outline = '2px solid #c98a1b';
      shown.style.outlineOffset = '-2px';
      if (scroll) shown.scrollIntoView({block: 'nearest'});
    },
  }));

  Alpine.data('readText', () => ({
    ...asSomebody,

    init() {
      this.begin();
    },

    draw(answer) {
      put('bubble', answer.text);
      const parts =
        answer.parts === 1
          ? Meadowrun.wording('%(parts)s part, %(alphabet)s, %(left)s free', answer)
          : Meadowrun.wording('%(parts)s parts, %(alphabet)s, %(left)s free', answer);
      put('parts', parts);
    },
  }));

  Alpine.data('readNotification', () => ({
    ...asSomebody,

    init() {
      this.begin();
    },

    draw({title, body, push}) {
      put('n-title', title || Meadowrun.wording('(no title yet)'));
      put('n-body', body);
      this.picture('n-icon', push.icon);
      this.picture('n-picture', push.picture);
      const buttons = push.buttons.map((b) =>
        Object.assign(document.createElement('span'), {
          className: 'toast-button',
          textContent: b.label,
          title: b.href,
        }),
      );
      document.getElementById('n-buttons').replaceChildren(...buttons);
      this.leads(push);
    },

    picture(id, source) {
      const image = document.getElementById(id);
      image.hidden = !source;
      if (source) image.src = source;
    },

    leads({tap, href}) {
      const {page} = this.newest().push;
      const says = {
        app: Meadowrun.wording('a tap opens the app'),
        address: href && Meadowrun.wording('a tap opens %(address)s', {address: href}),
        page: page && Meadowrun.wording('a tap opens'),
      }[tap];
      put('n-leads', says ? `${says} ` : '');
      if (tap === 'page' && page)
        document.getElementById('n-leads').append(
          Object.assign(document.createElement('a'), {
            href: `/messages/${page}?as=${this.person}`,
            textContent: Meadowrun.wording('this page'),
          }),
        );
    },

    looked(event) {
      const {look} = event.target.dataset;
      this.$root
        .querySelectorAll('[data-look]')
        .forEach((b) => b.setAttribute('aria-pressed', String(b === event.target)));
      document.getElementById('screen').classList.toggle('phone', look === 'phone');
    },
  }));
});
