// The channel ruler: the instrument's own cell is dragged to another one (choosing a cell does the same).
export default () => ({
  held: false,
  press(event) { this.held = Boolean(event.target.closest("[data-mine]")); },
  drop(event) {
    const cell = document.elementFromPoint(event.clientX, event.clientY)?.closest("button[name=channel]");
    if (this.held && cell && !("mine" in cell.dataset)) this.$root.requestSubmit(cell);
    this.held = false;
  },
});
