import { typing } from "./shared.js";

// The stand view: asks what there is to show several times a second and fills it in, counts on between two answers by
// the beats that were told ahead, and sends what is pressed. Elements stay where they are, so that no finger falls
// between two of them.
const EVERY_MS = 250;
const SILENT = 6;
const MOST_BEATS = 12;
const TOLD_MS = 6000;
const GONE = "No answer from the computer. Is Hypotaxis running, and this device on its network?";
const DARK = "This connection does not let the page keep the screen awake: set the device so that it stays on.";

function set(element, text) {
  if (element && element.textContent !== text) element.textContent = text;
}

// Random numbers that also a plain connection has.
function token() {
  return [...crypto.getRandomValues(new Uint32Array(4))].map((one) => one.toString(16)).join("");
}

export default () => ({
  silent: 0,
  asked: 0,
  timers: [],
  lock: null,
  said: "",
  quiet: 0,
  init() {
    this.one("[data-cells]").replaceChildren(...Array.from({ length: MOST_BEATS }, () => document.createElement("span")));
    this.fill(JSON.parse(document.getElementById("stand-now").textContent));
    this.next();
    this.stayAwake();
    document.addEventListener("visibilitychange", () => { if (!document.hidden) this.stayAwake(); });
  },
  one(selector) { return this.$root.querySelector(selector); },
  next() { setTimeout(() => this.look(), EVERY_MS); },
  async look() {
    await this.fetched(this.$root.dataset.state, {});
    this.next();
  },
  async fetched(url, how) {
    this.asked += 1;
    const mine = this.asked;
    try {
      const answer = await fetch(url, { ...how, redirect: "manual", headers: { "X-Fragment": "1" } });
      if (answer.type === "opaqueredirect" || answer.status === 401 || answer.status === 403) {
        location.reload();
        return;
      }
      if (!answer.ok) throw new Error(answer.status);
      const now = await answer.json();
      this.silent = 0;
      // An older answer never comes over a newer one.
      if (mine >= this.asked || how.method) this.fill(now);
    } catch {
      this.silent += 1;
      if (this.silent >= SILENT || how.method) this.say(GONE, true);
    }
  },
  fill(now) {
    if (this.now && this.now.session !== now.session) {
      // Somebody chose another one: its tracks and sounds are others.
      location.reload();
      return;
    }
    this.now = now;
    const sound = this.one("select[name=sound]");
    if (document.activeElement !== sound) sound.value = now.sound_key;
    this.$root.dataset.doing = now.doing;
    for (const element of this.$root.querySelectorAll("[data-show]")) {
      if (element.dataset.show !== "bar" && element.dataset.show !== "beat") set(element, now[element.dataset.show]);
    }
    this.count(now.bar, now.beat, now.beats);
    for (const timer of this.timers) clearTimeout(timer);
    this.timers = now.coming.map((one) => setTimeout(() => this.count(one.bar, one.beat, one.beats), one.in_ms));
    this.levels(now.armed);
    this.buttons(now);
    this.tracks(now.tracks);
    set(this.one("[data-verdict=of]"), now.verdict.of);
    set(this.one("[data-verdict=told]"), now.verdict.told);
    this.one("[data-sign]").hidden = !now.verdict.wrong;
    if (now.told !== undefined) this.say(now.told, now.told_wrong);
    if (now.trouble) this.say(now.trouble, true);
    else if (this.said === GONE) this.say("", false);
  },
  count(bar, beat, beats) {
    set(this.one("[data-show=bar]"), bar);
    set(this.one("[data-show=beat]"), beat ? String(beat) : "");
    const cells = this.$root.querySelectorAll(".stand-cells span");
    cells.forEach((cell, place) => {
      cell.hidden = place >= beats;
      cell.classList.toggle("on", place < beat);
    });
  },
  levels(rows) {
    this.$root.querySelectorAll("[data-row]").forEach((element, place) => {
      const row = rows[place];
      element.classList.toggle("empty", !row);
      element.classList.toggle("clipped", Boolean(row && row.wrong));
      set(element.querySelector("[data-name]"), row ? row.name : "");
      set(element.querySelector("[data-value]"), row ? row.value : "");
      set(element.querySelector("[data-wrong]"), row ? row.wrong : "");
      element.querySelector("[data-now]").setAttribute("width", row ? row.now : 0);
      element.querySelector("[data-held]").setAttribute("x", row ? row.held : 0);
      element.querySelector("[data-tab]").setAttribute("fill", (row && row.colour) || "none");
    });
  },
  buttons(now) {
    for (const button of this.$root.querySelectorAll("[data-button]")) {
      const told = now[button.dataset.button];
      set(button.querySelector("b"), told.name);
      const second = button.querySelector("small");
      if (second) set(second, told.told);
      button.disabled = !told.on;
    }
    for (const button of this.$root.querySelectorAll("[data-with]")) button.disabled = !now[button.dataset.with].on;
    this.one("[data-button=main]").dataset.does = now.main_act;
  },
  tracks(armed) {
    for (const button of this.$root.querySelectorAll("[data-track]")) {
      button.setAttribute("aria-checked", armed.includes(button.dataset.track) ? "true" : "false");
    }
  },
  say(told, wrong, lasts = TOLD_MS) {
    this.said = told;
    const element = this.one("[data-told]");
    set(element, told);
    element.classList.toggle("alarm", Boolean(wrong));
    clearTimeout(this.quiet);
    if (told && told !== GONE) this.quiet = setTimeout(() => this.say("", false), lasts);
  },
  press(event) { this.send(event.currentTarget.dataset.does); },
  choose() { this.$refs.tracks.showModal(); },
  arm(event) { this.send("arm", event.currentTarget.dataset.track); },
  async leave(event) {
    await fetch(event.currentTarget.dataset.leave, { method: "POST", body: new FormData(this.$refs.form) });
    location.reload();
  },
  send(act, about = "") {
    const data = new FormData(this.$refs.form);
    data.set("act", act);
    data.set("about", about);
    data.set("token", token());
    this.fetched(this.$root.dataset.act, { method: "POST", body: data, keepalive: true });
  },
  // At the touch, not when the finger is lifted.
  panic(event) {
    if (event.button === 0) this.send("panic");
  },
  panicByKey(event) {
    if (event.detail === 0) this.send("panic");
  },
  key(event) {
    if (event.ctrlKey || event.metaKey || event.altKey || event.repeat) return;
    if (event.key === "Escape" && this.$refs.tracks.open) return;
    if (event.key === "Escape" || event.key === "!") {
      this.send("panic");
      return;
    }
    if (typing(event.target)) return;
    const keys = { r: this.now.main_act, e: "repeat", a: "accept", p: "try", ArrowLeft: "previous", ArrowRight: "next", c: "check" };
    const act = keys[event.key];
    const button = act && this.one(`[data-does="${act}"]`);
    if (!button || button.disabled) return;
    event.preventDefault();
    this.send(act);
  },
  async stayAwake() {
    try {
      this.lock = await navigator.wakeLock.request("screen");
    } catch {
      this.say(DARK, false, 3 * TOLD_MS);
    }
  },
});
