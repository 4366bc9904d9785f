import { press, typing } from "./shared.js";

const NEAREST = 4;
const FURTHEST = 0.2;
const DRAG_PX = 5;

// The sheet of the rig. Choosing a second socket, or dragging onto it, draws the cable; dragging a cabled socket moves
// that end; a box is dragged by its name within its column; the empty sheet is dragged to look elsewhere.
export default function rigSheet() {
  return {
    whole: null,
    view: null,
    held: null,
    init() {
      const box = this.$refs.sheet.viewBox.baseVal;
      this.whole = { x: box.x, y: box.y, width: box.width, height: box.height };
      this.view = { ...this.whole };
      this.stay();
    },
    // The page has come anew, and the keyboard goes on from the socket that was chosen.
    stay() {
      const at = new URLSearchParams(location.search).get("at");
      const chosen = at && this.$refs.sheet.querySelector(`[data-socket="${CSS.escape(at)}"]`);
      if (chosen && !document.querySelector(".sheet-panel")) chosen.focus();
    },
    // --- looking
    at(event) {
      const point = new DOMPoint(event.clientX, event.clientY);
      return point.matrixTransform(this.$refs.sheet.getScreenCTM().inverse());
    },
    show() {
      const { x, y, width, height } = this.view;
      this.$refs.sheet.setAttribute("viewBox", `${x} ${y} ${width} ${height}`);
      this.$refs.view.classList.toggle("zoomed", width < this.whole.width);
    },
    zoom(factor, around) {
      const scale = Math.min(NEAREST, Math.max(FURTHEST, (this.whole.width / this.view.width) * factor));
      const width = this.whole.width / scale;
      const shrink = width / this.view.width;
      const centre = around || { x: this.view.x + this.view.width / 2, y: this.view.y + this.view.height / 2 };
      this.view.x = centre.x - (centre.x - this.view.x) * shrink;
      this.view.y = centre.y - (centre.y - this.view.y) * shrink;
      this.view.width = width;
      this.view.height *= shrink;
      this.show();
    },
    nearer() { this.zoom(1.3); },
    further() { this.zoom(1 / 1.3); },
    // All of it: as wide as the page, or as high as the window where the sheet is higher than that.
    fit() {
      const room = window.innerHeight - this.$refs.view.getBoundingClientRect().top - window.scrollY - 110;
      const shown = this.$refs.sheet.getBoundingClientRect().width;
      const high = (this.whole.height * shown) / this.whole.width;
      const already = this.view.width === this.whole.width;
      this.view = { ...this.whole };
      this.$refs.sheet.style.height = "";
      if (high > room && already) this.$refs.sheet.style.height = `${Math.max(300, room)}px`;
      this.show();
    },
    wheel(event) {
      if (!event.ctrlKey) return;
      event.preventDefault();
      this.zoom(event.deltaY < 0 ? 1.15 : 1 / 1.15, this.at(event));
    },
    zoomKeys(event) {
      if (typing(event.target) || event.ctrlKey || event.metaKey || event.altKey) return;
      if (event.key === "+") this.nearer();
      if (event.key === "-") this.further();
      if (event.key === "0") this.fit();
    },
    // --- dragging
    press(event) {
      if (event.button !== 0 || event.target.closest("button, foreignObject")) return;
      const socket = event.target.closest("[data-socket]");
      const name = event.target.closest(".box-link");
      const card = name && name.closest("[data-move]");
      if (!socket && !card && event.target.closest("a")) return;
      this.held = { socket, card, from: { x: event.clientX, y: event.clientY }, start: { ...this.view }, moved: false, pointer: event.pointerId };
    },
    drag(event) {
      const held = this.held;
      if (!held) return;
      if (!held.moved && Math.hypot(event.clientX - held.from.x, event.clientY - held.from.y) < DRAG_PX) return;
      if (!held.moved) {
        held.moved = true;
        this.$refs.view.setPointerCapture(held.pointer);
        this.$refs.view.classList.add(held.socket ? "dragging" : "moving");
      }
      event.preventDefault();
      if (held.socket) this.pull(event);
      else if (held.card) this.carry(event);
      else this.pan(event);
    },
    pull(event) {
      this.held.dot ??= this.anchor(this.held.socket);
      const dot = this.held.dot;
      const here = this.at(event);
      this.$refs.drawn.setAttribute("d", `M${dot.x} ${dot.y}L${here.x} ${here.y}`);
    },
    // Where a line to the pointer starts: at the socket, or at the other end of its cable, which stays plugged.
    anchor(socket) {
      const cable = socket.dataset.cable;
      const other = cable && [...this.$refs.sheet.querySelectorAll(`[data-cable="${cable}"]`)].find((one) => one !== socket);
      const box = (other || socket).querySelector(".dot, .stub").getBBox();
      return { x: box.x + box.width / 2, y: box.y + box.height / 2 };
    },
    carry(event) {
      this.held.card.classList.add("dragged");
      this.held.card.setAttribute("transform", `translate(0 ${this.at(event).y - this.fromY()})`);
    },
    fromY() {
      const point = new DOMPoint(this.held.from.x, this.held.from.y);
      return point.matrixTransform(this.$refs.sheet.getScreenCTM().inverse()).y;
    },
    pan(event) {
      const scale = this.view.width / this.$refs.sheet.getBoundingClientRect().width;
      this.view.x = this.held.start.x - (event.clientX - this.held.from.x) * scale;
      this.view.y = this.held.start.y - (event.clientY - this.held.from.y) * scale;
      this.show();
    },
    drop(event) {
      const held = this.held;
      this.letGo();
      if (!held?.moved) return;
      // The click that ends a drag chooses nothing.
      this.$refs.view.addEventListener("click", (click) => { click.preventDefault(); click.stopPropagation(); }, { capture: true, once: true });
      setTimeout(() => this.$refs.view.dispatchEvent(new MouseEvent("click")), 0);
      if (held.socket) this.plug(held.socket, document.elementFromPoint(event.clientX, event.clientY)?.closest("[data-socket]"));
      else if (held.card) this.place(held.card, this.at(event).y);
    },
    letGo() {
      if (!this.held) return;
      this.$refs.drawn.setAttribute("d", "");
      this.$refs.view.classList.remove("dragging", "moving");
      this.held.card?.classList.remove("dragged");
      this.held.card?.removeAttribute("transform");
      this.held = null;
    },
    plug(from, to) {
      if (!to || to === from) return;
      if (from.dataset.cable) {
        const form = document.getElementById("replug-now");
        form.elements.cable.value = from.dataset.cable;
        form.elements.end.value = from.dataset.socket;
        form.elements.to.value = to.dataset.socket;
        form.requestSubmit();
        return;
      }
      this.connect(from.dataset.socket, to.dataset.socket);
    },
    connect(source, target) {
      const form = document.getElementById("connect-now");
      form.elements.source.value = source;
      form.elements.target.value = target;
      form.requestSubmit();
    },
    // A box comes to stand above the first card of its column whose middle is below the pointer.
    place(card, y) {
      const column = [...this.$refs.sheet.querySelectorAll(`[data-role="${card.dataset.role}"]`)].filter((one) => one !== card);
      const above = column.filter((one) => {
        const box = one.querySelector(".unit").getBBox();
        return box.y + box.height / 2 < y;
      });
      const form = document.getElementById("place-now");
      form.action = card.dataset.move;
      form.elements.place.value = above.length;
      form.requestSubmit();
    },
    // --- choosing
    choose(event) {
      const socket = event.target.closest("[data-fits]");
      if (!socket) return;
      event.preventDefault();
      this.connect(document.getElementById("connect-now").elements.source.value, socket.dataset.fits);
    },
    keys(event) {
      if (event.key === " " && event.target.closest("a")) {
        event.preventDefault();
        press(event.target.closest("a"));
      }
    },
  };
}
