import { cookie } from "./shared.js";

// What is typed for the next pass is still there after arming a track, or coming back from another step.
export default () => ({
  keep() {
    const field = (name) => this.$root.elements.namedItem(name);
    const bars = `${field("first_bar").value}-${field("last_bar").value}`;
    // Only where a box leads.
    const led = field("led")?.value ?? "";
    const rest = `${field("place").checked ? 1 : 0}:${field("times").value}:${led}:${field("run_in").value}`;
    cookie("hypotaxis-pass", `${document.body.dataset.session}:${bars}:${rest}`);
    // Real devices offer no faster way.
    if (field("fast")) cookie("hypotaxis-fast", field("fast").checked ? "1" : "0");
  },
});
