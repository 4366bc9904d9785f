// Focus moves into a sheet when it opens.
export default () => ({
  init() {
    const wished = ["[autofocus]", "[aria-invalid=true]", ".field input, .field select, .ports input", "[data-escape]"];
    wished.map((what) => this.$root.querySelector(what)).find(Boolean)?.focus();
  },
});
