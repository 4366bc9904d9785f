// A matrix of buttons: the pressed one names its row and column in the form.
export default () => ({
  choose(event) {
    const cell = event.target.closest("[data-source]");
    if (!cell) return;
    this.$root.elements.source.value = cell.dataset.source;
    this.$root.elements.target.value = cell.dataset.target;
    this.$root.requestSubmit();
  },
});
