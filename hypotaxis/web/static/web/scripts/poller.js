import { fetchInto, leadTo, leaving } from "./shared.js";

// Background work: fetches its state several times a second until it is finished. What is pressed stays outside the
// parts that are replaced, so that no click falls between two of them.
export default () => ({
  silent: 0,
  finished: false,
  init() { this.next(); },
  next() { setTimeout(() => this.look(), 250); },
  async look() {
    if (!this.$root.isConnected) return;
    const headers = await fetchInto(this.$root, this.$root.dataset.url);
    if (!headers) {
      this.silent += 1;
      if (this.silent === 8) this.$root.insertAdjacentHTML("afterbegin", '<p class="wrong-text">Hypotaxis does not answer. Is it still running?</p>');
    } else if (headers.get("X-Finished") === "1" && !leaving()) {
      this.finished = true;
      delete this.$root.dataset.sounding;
      const next = this.$root.dataset.then;
      if (next) leadTo(next);
      return;
    } else {
      this.silent = 0;
    }
    this.next();
  },
});
