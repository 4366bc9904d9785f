// Keys of the lowest row by their place, whatever is printed on them.
const ROW = ["KeyZ", "KeyX", "KeyC", "KeyV", "KeyB", "KeyN", "KeyM"];

// Keys and pads: how far down they are struck is the velocity; the lowest row of letters plays one key after the other.
export default () => ({
  init() {
    for (const key of this.$root.querySelectorAll("[data-x]")) key.style.left = `${key.dataset.x}px`;
  },
  play(event) {
    const key = event.target.closest("[data-note]");
    const box = key.getBoundingClientRect();
    this.strike(key, 30 + Math.round((97 * (event.clientY - box.top)) / box.height));
  },
  typed(event) {
    const place = ROW.indexOf(event.code);
    if (place < 0 || event.ctrlKey || event.metaKey || event.altKey) return;
    event.preventDefault();
    event.stopPropagation();
    const keys = [...this.$root.querySelectorAll("[data-note]:not(:disabled)")].sort((a, b) => a.dataset.note - b.dataset.note);
    if (keys[place]) this.strike(keys[place], 100);
  },
  strike(key, velocity) {
    this.$root.elements.note.value = key.dataset.note;
    this.$root.elements.velocity.value = Math.min(127, Math.max(1, velocity));
    this.$root.requestSubmit();
  },
});
