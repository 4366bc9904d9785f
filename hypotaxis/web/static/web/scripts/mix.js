import { renewed, typing } from "./shared.js";

const AHEAD_S = 10; // of levels that are fetched at once
const REFRESH_S = 3; // before they end
const AGAIN_MS = 2000;

// The takes of a session heard together: one stream, that the server mixes as it is asked for; meters by what it says.
export default () => ({
  init() {
    this.sound = new Audio();
    this.sound.preload = "none";
    this.beats = JSON.parse(document.getElementById("mix-beats").textContent);
    this.meters = null;
    this.version = 0;
    this.wanted = false;
    this.$root.addEventListener("change", (event) => this.changed(event));
    this.load(this.begins());
    this.frame = requestAnimationFrame(() => this.draw());
  },
  destroy() {
    cancelAnimationFrame(this.frame);
    this.sound.pause();
    this.sound.removeAttribute("src");
    this.sound.load();
  },
  query() {
    const [how, click] = ["how", "click"].map((name) => this.$root.querySelector(`[data-${name}]`).value);
    return new URLSearchParams({ how, click });
  },
  // Another mix, or another click, from the same place on.
  async load(at) {
    this.version += 1;
    this.meters = null;
    this.sound.src = `${this.$root.dataset.heard}?${this.query()}&v=${this.version}`;
    this.place = at;
    if (this.wanted) await this.play();
  },
  // What is pressed while the mix is changed holds for the mix that comes of it.
  async play() {
    const [at, version] = [this.place, this.version];
    this.wanted = true;
    this.tell();
    if (this.sound.readyState === 0) this.sound.load();
    try {
      if (this.sound.readyState === 0) await new Promise((done, failed) => {
        this.sound.addEventListener("loadedmetadata", done, { once: true });
        this.sound.addEventListener("error", failed, { once: true });
      });
      if (version !== this.version || !this.wanted) return;
      this.sound.currentTime = at;
      await this.sound.play();
    } catch {
      if (version !== this.version) return;
      this.wanted = false;
      this.tell();
    }
  },
  now() { return this.sound.paused ? this.place : this.sound.currentTime; },
  line(bar) { return this.beats.find((beat) => beat[1] === `${bar}.1`)?.[0]; },
  begins() { return this.line(Number(this.$root.querySelector("[data-from]").value)) ?? Number(this.$root.dataset.zero); },
  ends() {
    const last = Number(this.$root.querySelector("[data-to]").value);
    return this.line(last + 1) ?? Infinity;
  },
  press(event) {
    if (event.target.closest("[data-play]")) this.toggle();
    const strip = event.target.closest("[data-strip]");
    if (!strip) return;
    const box = strip.getBoundingClientRect();
    const share = (event.clientX - box.left) / box.width;
    this.seek(Number(this.$root.dataset.zero) + share * Number(this.$root.dataset.whole));
  },
  seek(at) {
    this.place = Math.max(0, at);
    this.meters = null;
    if (!this.sound.paused) this.sound.currentTime = this.place;
  },
  toggle() {
    if (!this.wanted) {
      if (this.place >= this.ends()) this.place = this.begins();
      this.play();
    } else {
      this.place = this.now();
      this.wanted = false;
      this.sound.pause();
      this.tell();
    }
  },
  key(event) {
    if (typing(event.target) || event.target.closest("button, a")) return;
    const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (event.key === " ") this.toggle();
    else if (event.key === "Home") this.seek(this.begins());
    else if (by) {
      const here = this.beat();
      this.seek(this.beats[Math.min(this.beats.length - 1, Math.max(0, here + by))][0]);
    } else return;
    event.preventDefault();
  },
  beat() {
    const at = this.now() + 0.001;
    let low = 0;
    let high = this.beats.length;
    while (high - low > 1) {
      const middle = (low + high) >> 1;
      if (this.beats[middle][0] <= at) low = middle;
      else high = middle;
    }
    return low;
  },
  changed(event) {
    if (event.target.matches("[data-how], [data-click]")) {
      this.load(this.now());
      history.replaceState(null, "", `?${this.query()}`);
    } else if (event.target.matches("[data-from]")) {
      this.seek(this.begins());
    } else if (event.target.matches(".mix-desk input")) {
      const form = event.target.form;
      form.requestSubmit(form.querySelector(`[value=${event.target.name === "group" ? "group" : "level"}]`));
    }
  },
  async send(event) {
    if (event.target.dataset.soft === undefined) return;
    event.preventDefault();
    const named = document.activeElement?.getAttribute("aria-label");
    await renewed(event.target, event.submitter);
    if (named) this.$root.querySelector(`[aria-label="${CSS.escape(named)}"]`)?.focus();
    this.load(this.now());
  },
  tell() {
    const button = this.$root.querySelector("[data-play]");
    button.firstChild.textContent = this.wanted ? "Stop " : "Hear ";
  },
  async fetchLevels(at) {
    const version = this.version;
    this.meters = { from: at, fetched: false };
    try {
      const answer = await fetch(`${this.$root.dataset.levels}?${this.query()}&from=${at.toFixed(3)}&seconds=${AHEAD_S}`);
      const found = answer.ok ? await answer.json() : null;
      if (found && version === this.version) this.meters = { ...found, fetched: true };
    } catch {
      // Nobody answers: asked again in a while.
      setTimeout(() => { if (version === this.version) this.meters = null; }, AGAIN_MS);
    }
  },
  draw() {
    const at = this.now();
    if (!this.sound.paused && (at >= this.ends() || this.sound.ended)) this.toggle();
    const x = `${((at - Number(this.$root.dataset.zero)) / Number(this.$root.dataset.whole)) * 100}%`;
    for (const line of this.$root.querySelectorAll(".mix-needle")) {
      line.setAttribute("x1", x);
      line.setAttribute("x2", x);
    }
    this.$root.querySelector("[data-position]").textContent = this.beats[this.beat()]?.[1] ?? "";
    if (!this.sound.paused) this.meter(at);
    this.frame = requestAnimationFrame(() => this.draw());
  },
  meter(at) {
    const known = this.meters;
    if (!known || at < known.from - 0.1 || at > known.from + AHEAD_S) this.fetchLevels(at);
    if (!known?.fetched) return;
    const place = Math.max(0, Math.floor((at - known.from) / known.step));
    for (const meter of this.$root.querySelectorAll("[data-meter]")) {
      const [level, held] = known.meters[meter.dataset.meter]?.[place] ?? [0, 0];
      meter.querySelector(".level").setAttribute("width", level);
      meter.querySelector(".hold").setAttribute("x", held || -4);
    }
    if (at > known.from + AHEAD_S - REFRESH_S && !known.next) {
      known.next = true;
      this.fetchLevels(at);
    }
  },
});
