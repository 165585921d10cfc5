// What is dear to work out: asked for behind the page's frame, shown when it comes, stopped when
// nobody wants it.
document.addEventListener('alpine:init', () => {
  Alpine.data('later', () => {
    let token = '';
    let control = null;
    let clock = null;

    return {
      said: Meadowrun.wording('It appears here when it is ready.'),
      seconds: '',
      working: true,
      idle: false,

      init() {
        this.work();
      },

      async work() {
        token = Meadowrun.token();
        control = new AbortController();
        this.busy(true);
        this.said = Meadowrun.wording('It appears here when it is ready.');
        const began = Date.now();
        clock = setInterval(() => {
          this.seconds = `${Math.round((Date.now() - began) / 1000)} s`;
        }, 1000);
        try {
          const response = await fetch(location.href, {
            headers: {'X-Later': token, Accept: 'text/html'},
            signal: control.signal,
          });
          // What was worked out waits for the next asking. Anything else, like a redirection,
          // shows itself there, too.
          if (response.ok) location.replace(response.url);
          else this.failed(Meadowrun.wording('It could not be loaded.'));
        } catch (problem) {
          if (problem.name !== 'AbortError')
            this.failed(Meadowrun.wording('Meadowrun does not answer.'));
        } finally {
          clearInterval(clock);
        }
      },

      busy(working) {
        this.working = working;
        this.idle = !working;
      },

      failed(why) {
        this.said = why;
        this.busy(false);
      },

      stop() {
        control.abort();
        const form = new FormData();
        form.set('token', token);
        fetch(this.$root.dataset.stop, {
          method: 'POST',
          headers: {'X-CSRFToken': Meadowrun.csrf()},
          body: form,
          keepalive: true,
        });
        this.seconds = '';
        this.failed('Stopped.');
        this.$nextTick(() => this.$refs.again.focus());
      },
    };
  });
});
