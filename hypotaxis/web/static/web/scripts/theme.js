import { cookie } from "./shared.js";

export default () => ({
  now: document.documentElement.dataset.theme || (matchMedia("(prefers-color-scheme: dark)").matches ? "night" : "day"),
  set(value) {
    this.now = value;
    document.documentElement.dataset.theme = value;
    cookie("hypotaxis-theme", value);
  },
  day() { this.set("day"); },
  night() { this.set("night"); },
  get isDay() { return this.now === "day" ? "true" : "false"; },
  get isNight() { return this.now === "night" ? "true" : "false"; },
});
