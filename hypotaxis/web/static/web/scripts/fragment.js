import { fetchInto } from "./shared.js";

// A picture with its own controls: links and forms inside it fetch the fragment anew instead of the page.
export default () => ({
  async follow(event) {
    const link = event.target.closest("a[data-fragment]");
    if (!link) return;
    event.preventDefault();
    const name = link.dataset.fragment;
    await fetchInto(this.$root, link.href);
    this.$root.querySelector(`[data-fragment="${name}"]`)?.focus();
  },
});
