import { renewed, typing } from "./shared.js";

const LOUDER = 8; // velocity of one press of an arrow
const SLACK = 3; // pixels within which a press is no drag
const KEPT = "hypotaxis-copied";

// Notes against a ruler of keys: chosen by rectangle, key, bar or one by one, dragged and moved by keys. Which are chosen
// is kept here; what becomes of them is the server's, which answers with the picture anew.
export default () => ({
  init() {
    this.$root.ownerDocument.querySelector(".roll-side").addEventListener("click", (event) => {
      const { what, do: act } = event.target.dataset;
      if (what) this.tell("fields", { what });
      else if (act === "copy") this.copy();
      else if (act === "paste") this.paste();
      else if (act === "remove") this.tell("remove");
    });
    document.getElementById("add-form").addEventListener("submit", (event) => {
      event.preventDefault();
      renewed(event.target, event.submitter);
    });
    this.told();
  },
  send(event) {
    if (event.target.dataset.whole === undefined) event.preventDefault();
  },
  get roll() { return this.$root.querySelector(".roll"); },
  get field() { return this.$root.querySelector(".roll-field"); },
  notes() { return [...this.field.querySelectorAll(".roll-note")]; },
  chosen() { return [...this.field.querySelectorAll(".roll-note.chosen")]; },
  choose(notes, more) {
    const wanted = new Set(notes);
    for (const note of this.notes()) note.classList.toggle("chosen", wanted.has(note) || (more && note.classList.contains("chosen")));
    this.told();
  },
  told() {
    const count = this.chosen().length;
    const line = document.querySelector("[data-chosen-told]");
    if (line) line.textContent = count ? `${count} note${count > 1 ? "s" : ""}` : "None yet: draw a rectangle around some.";
  },
  async tell(to, fields = {}) {
    const form = document.getElementById("roll-form");
    const sent = { what: "", copied: "", row: "", up: "", by: "", ...fields };
    form.elements.to.value = to;
    form.elements.chosen.value = this.chosen().map((note) => note.dataset.place).join(",");
    form.elements.stamp.value = this.roll.dataset.stamp;
    const typed = form.elements.steps.value;
    if (sent.steps !== undefined) form.elements.steps.value = sent.steps;
    for (const name of ["what", "copied", "row", "up", "by"]) form.elements[name].value = sent[name];
    const scrolled = this.$root.querySelector(".roll-scroll").scrollTop;
    const sending = renewed(form, null);
    form.elements.steps.value = typed;
    await sending;
    this.$root.querySelector(".roll-scroll").scrollTop = scrolled;
    this.told();
  },
  copy() {
    const notes = this.chosen().map((note) => ["tick", "duration", "note", "velocity"].map((name) => Number(note.dataset[name])));
    if (!notes.length) return;
    const step = Number(this.roll.dataset.step);
    const first = Math.floor(Math.min(...notes.map((note) => note[0])) / step) * step;
    const rows = notes.map(([tick, ...rest]) => [Math.round(tick - first), ...rest]);
    sessionStorage.setItem(KEPT, JSON.stringify({ ticks: Number(this.roll.dataset.quarter), notes: rows }));
    document.querySelector("[data-chosen-told]").textContent = `${rows.length} copied: lay them in at a bar, here or in another part.`;
  },
  paste() { this.tell("paste", { copied: sessionStorage.getItem(KEPT) ?? "" }); },
  steps(pixels) {
    const ticks = (pixels / this.field.getBoundingClientRect().width) * Number(this.roll.dataset.ticks);
    return ticks / Number(this.roll.dataset.step);
  },
  press(event) {
    if (event.button || typing(event.target)) return;
    const bar = event.target.closest(".roll-bar");
    const key = event.target.closest(".roll-key");
    if (bar) this.chooseBar(bar, event.shiftKey);
    else if (key) this.choose(this.notes().filter((note) => note.dataset.note === key.dataset.note), event.shiftKey);
    else if (event.target.closest(".roll-field")) this.drag(event);
  },
  chooseBar(bar, more) {
    const edges = [...this.roll.querySelectorAll(".roll-bar")].map((one) => Number(one.dataset.from));
    const from = Number(bar.dataset.from);
    const to = edges.find((edge) => edge > from) ?? 100;
    const inside = (note) => parseFloat(note.getAttribute("x")) >= from && parseFloat(note.getAttribute("x")) < to;
    this.choose(this.notes().filter(inside), more);
  },
  drag(event) {
    const note = event.target.closest(".roll-note");
    if (note && !note.classList.contains("chosen")) this.choose([note], event.shiftKey);
    event.preventDefault();
    this.$root.querySelector(".roll-scroll").focus({ preventScroll: true });
    const field = this.field;
    field.setPointerCapture(event.pointerId);
    field.onpointermove = (now) => (note ? this.follow(event, now) : this.frame(event, now));
    field.onpointerup = (now) => {
      field.onpointermove = null;
      field.onpointerup = null;
      const far = Math.max(Math.abs(now.clientX - event.clientX), Math.abs(now.clientY - event.clientY)) > SLACK;
      if (note && far) this.tell("move", this.distance(event, now));
      else if (!note) this.chooseInside(event, now, far);
    };
  },
  distance(from, now) {
    return {
      steps: Math.round(this.steps(now.clientX - from.clientX)),
      up: -Math.round((now.clientY - from.clientY) / Number(this.roll.dataset.row)),
    };
  },
  follow(from, now) {
    const { steps, up } = this.distance(from, now);
    const across = (steps * Number(this.roll.dataset.step) * this.field.getBoundingClientRect().width) / Number(this.roll.dataset.ticks);
    for (const note of this.chosen()) note.setAttribute("transform", `translate(${across} ${-up * Number(this.roll.dataset.row)})`);
  },
  frame(from, now) {
    const box = this.field.getBoundingClientRect();
    const frame = this.field.querySelector(".roll-frame");
    frame.setAttribute("x", Math.min(from.clientX, now.clientX) - box.left);
    frame.setAttribute("y", Math.min(from.clientY, now.clientY) - box.top);
    frame.setAttribute("width", Math.abs(now.clientX - from.clientX));
    frame.setAttribute("height", Math.abs(now.clientY - from.clientY));
  },
  chooseInside(from, now, far) {
    const frame = this.field.querySelector(".roll-frame");
    const box = frame.getBoundingClientRect();
    const meets = (note) => {
      const its = note.getBoundingClientRect();
      return its.left < box.right && its.right > box.left && its.top < box.bottom && its.bottom > box.top;
    };
    this.choose(far ? this.notes().filter(meets) : [], now.shiftKey);
    for (const name of ["width", "height"]) frame.setAttribute(name, 0);
  },
  draw(event) {
    if (!event.target.closest(".roll-field") || event.target.closest(".roll-note")) return;
    const box = this.field.getBoundingClientRect();
    const row = Math.floor((event.clientY - box.top) / Number(this.roll.dataset.row));
    this.tell("draw", { row, steps: Math.floor(this.steps(event.clientX - box.left)) });
  },
  key(event) {
    if (typing(event.target) || event.altKey) return;
    const held = event.ctrlKey || event.metaKey;
    const bar = event.target.closest(".roll-bar");
    const across = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    const upDown = { ArrowUp: 1, ArrowDown: -1 }[event.key];
    if (held && event.key === "a") this.choose(this.notes(), false);
    else if (held && event.key === "c" && this.chosen().length) this.copy();
    else if (held && event.key === "v") this.paste();
    else if (held) return;
    else if (bar && (event.key === "Enter" || event.key === " ")) this.chooseBar(bar, event.shiftKey);
    else if (!this.chosen().length) return;
    else if (across) this.tell(event.shiftKey ? "lengthen" : "move", { steps: across });
    else if (upDown && event.shiftKey) this.tell("velocity", { by: upDown * LOUDER });
    else if (upDown) this.tell("move", { steps: 0, up: upDown });
    else if (event.key === "Delete" || event.key === "Backspace") this.tell("remove");
    else return;
    event.preventDefault();
  },
});
