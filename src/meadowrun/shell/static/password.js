// A new password: judged by the server while it is typed, and shown when wanted.
document.addEventListener('alpine:init', () => {
  const shown = {
    kind: 'password',
    words: 'Show',
    turn() {
      this.kind = this.kind === 'password' ? 'text' : 'password';
      this.words = this.kind === 'password' ? 'Show' : 'Hide';
    },
  };
  Alpine.data('shownPassword', () => ({...shown}));
  Alpine.data('newPassword', () => ({
    ...shown,
    says: '',
    looks: 'quiet',
    async judge(event) {
      const typed = event.target.value;
      if (!typed) {
        this.says = '';
        return;
      }
      const form = new FormData();
      form.set('new', typed);
      form.set('token', this.$el.closest('[data-token]').dataset.token);
      form.set('csrf_token', event.target.form.querySelector('[name=csrf_token]').value);
      try {
        const found = await (
          await fetch(this.$el.closest('[data-judge]').dataset.judge, {method: 'POST', body: form})
        ).json();
        if (event.target.value !== typed) return;
        this.says = found.says;
        this.looks = found.good ? 'good' : 'lost';
      } catch (problem) {
        this.says = '';
      }
    },
  }));
});
