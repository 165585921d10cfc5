// The widths of columns in a message: a bar whose borders are dragged, or moved by arrow keys. The
// rule of widths is the server's; here they only change by whole percents, none under LEAST.
document.addEventListener('alpine:init', () => {
  const LEAST = 10;
  const STEP = 5;

  Alpine.data('widths', () => ({
    widths: [],
    held: -1,
    timer: null,

    init() {
      this.widths = this.$root.dataset.widths.split(' ').map(Number);
      this.draw();
    },

    draw() {
      this.$root.querySelectorAll('.split-part').forEach((part, at) => {
        part.style.flexBasis = `${this.widths[at]}%`;
        part.textContent = `${this.widths[at]} %`;
      });
      this.$root
        .querySelectorAll('.split-border')
        .forEach((border, at) => border.setAttribute('aria-valuenow', this.widths[at]));
    },

    // Moves the border behind a column, so that it is so wide; the one after it gives or takes.
    move(at, width) {
      const both = this.widths[at] + this.widths[at + 1];
      const wide = Math.max(LEAST, Math.min(both - LEAST, Math.round(width)));
      if (wide === this.widths[at]) return false;
      this.widths.splice(at, 2, wide, both - wide);
      this.draw();
      return true;
    },

    grabbed(event) {
      this.held = Number(event.target.dataset.at);
      event.target.setPointerCapture(event.pointerId);
      event.preventDefault();
    },

    dragged(event) {
      if (this.held < 0) return;
      const box = this.$root.getBoundingClientRect();
      const left = this.widths.slice(0, this.held).reduce((sum, one) => sum + one, 0);
      this.move(this.held, (100 * (event.clientX - box.left)) / box.width - left);
    },

    dropped() {
      if (this.held < 0) return;
      const at = this.held;
      this.held = -1;
      this.keep(at);
    },

    keyed(event) {
      const way = {ArrowLeft: -STEP, ArrowRight: STEP}[event.key];
      if (!way || event.altKey) return;
      event.preventDefault();
      event.stopPropagation();
      const at = Number(event.target.dataset.at);
      if (!this.move(at, this.widths[at] + way)) return;
      clearTimeout(this.timer);
      this.timer = setTimeout(() => this.keep(at), 400);
    },

    keep(at) {
      const value = this.widths.join(' ');
      if (value === this.$root.dataset.widths) return;
      this.$dispatch('widths', {line: this.$root.dataset.line, value, at});
    },
  }));
});
