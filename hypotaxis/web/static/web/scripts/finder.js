import { fetchInto } from "./shared.js";

// A search that looks while it is typed; the answer replaces the list below it.
export default () => ({
  waiting: null,
  look(event) {
    clearTimeout(this.waiting);
    const words = event.target.value;
    this.waiting = setTimeout(() => this.fetch(words), 120);
  },
  fetch(words) {
    const address = new URL(this.$root.dataset.url, location.href);
    address.searchParams.set("q", words);
    const into = this.$root.dataset.into;
    fetchInto(into ? document.getElementById(into) : this.$refs.found, address);
  },
});
