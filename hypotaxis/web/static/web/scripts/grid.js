import { renewed } from "./shared.js";

const STEP = 8; // velocity of one press of an arrow
const SLACK = 4; // pixels within which a press is no drag

// The patterns of a track: cells are pressed, dragged up and down for their velocity, and walked with the arrow keys. What
// is changed is sent, and the parts of the page that follow from it come back.
export default () => ({
  async send(event) {
    const form = event.target;
    if (form.dataset.whole !== undefined || form.closest(".sheet-panel") || form.enctype === "multipart/form-data") return;
    event.preventDefault();
    await this.change(form, event.submitter);
  },
  init() {
    this.$root.addEventListener("change", (event) => {
      const row = event.target.closest(".grid-row");
      if (row && event.target.matches("input")) row.requestSubmit(row.querySelector("[value=row]"));
    });
  },
  async change(form, by) {
    const focused = document.activeElement?.closest(".step-cell");
    const at = focused && `.step-cell[data-note="${focused.dataset.note}"][data-place="${focused.dataset.place}"]`;
    const named = !focused && document.activeElement?.getAttribute("aria-label");
    await renewed(form, by);
    const again = at ? this.$root.querySelector(at) : named && this.$root.querySelector(`[aria-label="${CSS.escape(named)}"]`);
    again?.focus();
  },
  tell(to, cell, velocity) {
    const form = document.getElementById("cell-form");
    form.elements.to.value = to;
    form.elements.note.value = cell.dataset.note;
    form.elements.place.value = cell.dataset.place;
    form.elements.velocity.value = velocity ?? "";
    this.change(form, null);
  },
  press(event) {
    const cell = event.target.closest(".step-cell");
    if (!cell || event.button) return;
    event.preventDefault();
    cell.focus();
    const box = cell.querySelector(".step-block");
    const stood = Number(cell.dataset.velocity);
    const louder = (now) => Math.min(127, Math.max(1, Math.round(stood + event.clientY - now.clientY)));
    cell.setPointerCapture(event.pointerId);
    cell.onpointermove = (now) => {
      if (!box || Math.abs(now.clientY - event.clientY) < SLACK) return;
      const whole = Number(cell.closest("svg").getAttribute("height"));
      const height = (louder(now) / 127) * (whole - 2);
      box.setAttribute("height", height);
      box.setAttribute("y", whole - height);
    };
    cell.onpointerup = (now) => {
      cell.onpointermove = null;
      cell.onpointerup = null;
      if (Math.abs(now.clientY - event.clientY) < SLACK) this.tell("press", cell);
      else this.tell("velocity", cell, louder(now));
    };
  },
  key(event) {
    if (event.key === "Enter" && event.target.matches(".grid-row input")) {
      event.preventDefault();
      event.target.blur();
    }
    const cell = event.target.closest(".step-cell");
    if (!cell || event.ctrlKey || event.metaKey || event.altKey) return;
    const upDown = { ArrowUp: 1, ArrowDown: -1 }[event.key];
    const velocity = Number(cell.dataset.velocity);
    let to = null;
    if (event.shiftKey && upDown) this.tell("velocity", cell, Math.min(127, Math.max(1, velocity + upDown * STEP)));
    else if (event.key === "Enter" || event.key === " ") this.tell("press", cell);
    else if (event.key === "Delete" || event.key === "Backspace") this.tell("clear", cell);
    else if (event.key === "ArrowRight") to = cell.nextElementSibling;
    else if (event.key === "ArrowLeft") to = cell.previousElementSibling;
    else if (upDown) to = this.above(cell, -upDown);
    else return;
    event.preventDefault();
    event.stopPropagation();
    if (to?.matches(".step-cell")) to.focus();
  },
  above(cell, by) {
    const rows = [...this.$root.querySelectorAll(".step-cells")];
    const row = rows[rows.indexOf(cell.closest("svg")) + by];
    const cells = row ? [...row.querySelectorAll(".step-cell")] : [];
    return cells[Math.min(cells.length - 1, [...cell.parentNode.querySelectorAll(".step-cell")].indexOf(cell))];
  },
});
