import { typing } from "./shared.js";

const FADE_S = 0.015; // over which one take gives way to the next

// Takes of a track: heard in turn, going on at the same place when another is chosen, and let stand by dragging over bars.
export default () => ({
  sounds: {},
  now: "",
  init() {
    for (const strip of this.$root.querySelectorAll(".bars-chosen")) {
      strip.addEventListener("pointerdown", (event) => this.drag(event, strip));
    }
    this.watch = setInterval(() => this.tell(), 200);
  },
  destroy() { clearInterval(this.watch); },
  sound(address) {
    this.sounds[address] ??= Object.assign(new Audio(address), { preload: "auto" });
    return this.sounds[address];
  },
  press(event) {
    const button = event.target.closest("[data-hear]");
    if (!button) return;
    const address = button.dataset.hear;
    if (address === this.now) this.rest();
    else this.hear(address);
  },
  async hear(address) {
    const before = this.sounds[this.now];
    const next = this.sound(address);
    if (before) next.currentTime = before.currentTime;
    this.now = address;
    next.volume = 1;
    try {
      await next.play();
    } catch {
      return;
    }
    // The place may have moved on while it was fetched.
    if (before && !before.paused) {
      next.currentTime = before.currentTime;
      setTimeout(() => before.pause(), FADE_S * 1000);
    }
    this.tell();
  },
  rest() {
    const sound = this.sounds[this.now];
    if (!sound) return;
    if (sound.paused) sound.play();
    else sound.pause();
    this.tell();
  },
  tell() {
    const sound = this.sounds[this.now];
    for (const button of this.$root.querySelectorAll("[data-hear]")) {
      button.setAttribute("aria-pressed", String(button.dataset.hear === this.now && Boolean(sound) && !sound.paused));
    }
    const line = this.$root.querySelector("[data-heard]");
    const seconds = sound ? Math.floor(sound.currentTime) : 0;
    if (line) line.textContent = sound ? `${Math.floor(seconds / 60)}:${String(seconds % 60).padStart(2, "0")}` : "";
  },
  drag(event, strip) {
    if (event.button) return;
    event.preventDefault();
    const box = strip.getBoundingClientRect();
    const edges = [...strip.closest(".take-rows").querySelectorAll(".take-heads line")].map((line) => parseFloat(line.getAttribute("x1")));
    const share = (now) => Math.min(99.999, Math.max(0, ((now.clientX - box.left) / box.width) * 100));
    const bar = (now) => edges.filter((edge, place) => edge <= share(now) && place < Number(strip.dataset.bars)).length;
    const within = (number) => Math.min(Number(strip.dataset.last), Math.max(Number(strip.dataset.first), number));
    const from = within(bar(event));
    const show = (to) => {
      const low = Math.min(from, to);
      const high = Math.max(from, to);
      const frame = strip.querySelector(".bars-frame");
      frame.setAttribute("x", `${edges[low - 1]}%`);
      frame.setAttribute("width", `${(edges[high] ?? 100) - edges[low - 1]}%`);
      const form = document.getElementById("stand-form");
      form.elements.take.value = strip.dataset.take;
      form.elements.first_bar.value = low;
      form.elements.last_bar.value = high;
    };
    strip.setPointerCapture(event.pointerId);
    show(from);
    strip.onpointermove = (now) => show(within(bar(now)));
    strip.onpointerup = () => { strip.onpointermove = null; };
  },
  key(event) {
    if (typing(event.target)) return;
    if (event.key === " " && this.now) {
      event.preventDefault();
      this.rest();
    }
    const place = event.altKey ? Number(event.code.replace("Digit", "")) : NaN;
    const row = this.$root.querySelectorAll(".bars-chosen")[place - 1];
    if (!row) return;
    event.preventDefault();
    const form = document.getElementById("stand-form");
    form.elements.take.value = row.dataset.take;
    form.elements.first_bar.value = row.dataset.first;
    form.elements.last_bar.value = row.dataset.last;
    form.requestSubmit(form.querySelector("[name=to]"));
  },
});
