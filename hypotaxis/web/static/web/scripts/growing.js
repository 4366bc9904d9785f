// A table of rows to fill in: those in use and one empty one; the next appears when something is typed into that.
const filled = (row) => [...row.querySelectorAll("input")].some((field) => field.value.trim() !== "");

export default () => ({
  init() { this.show(); },
  show() {
    const rows = [...this.$root.querySelectorAll("[data-row]")];
    const last = rows.findLastIndex(filled);
    rows.forEach((row, at) => { row.hidden = at > last + 1; });
  },
});
