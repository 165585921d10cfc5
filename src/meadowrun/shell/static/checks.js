// Really follows the links of a message, when asked to.
document.addEventListener('alpine:init', () => {
  Alpine.data('links', () => ({
    busy: false,

    async follow() {
      this.busy = true;
      try {
        const answer = await Meadowrun.post(this.$root.dataset.to, {});
        answer.links.forEach((link) => this.tell(link));
      } catch (problem) {
        Meadowrun.say(problem.message);
      }
      this.busy = false;
    },

    tell(link) {
      const plain = (address) => address.replace(/&amp;/g, '&');
      const row = [...this.$root.querySelectorAll('li')].find(
        (one) => plain(one.dataset.href) === plain(link.href),
      );
      const said = row?.querySelector('span');
      if (!said) return;
      said.textContent = link.said;
      said.className = link.good ? 'good' : 'lost';
    },
  }));
});
