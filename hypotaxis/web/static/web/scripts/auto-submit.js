// A form that is sent as soon as something in it changes. Arrow keys in a list change it at each press: there it waits
// until the list is left or Enter is pressed.
export default () => ({
  typed: null,
  waiting: false,
  init() {
    this.$root.addEventListener("keydown", (event) => {
      this.typed = event.target.matches("select") ? event.target : null;
      if (event.key === "Enter" && this.waiting) this.send();
    });
    this.$root.addEventListener("pointerdown", () => { this.typed = null; });
    this.$root.addEventListener("focusout", () => {
      this.typed = null;
      if (this.waiting) this.send();
    });
  },
  send(event) {
    this.waiting = Boolean(event && this.typed && event.target === this.typed);
    if (!this.waiting) this.$root.requestSubmit();
  },
});
