import { cookie } from "./shared.js";

// What is typed for the next pass is kept as it is typed: it is still there after arming a track, or coming back from
// another step, and the stand view records by it.
export default () => ({
  keep() {
    navigator.sendBeacon(this.$root.dataset.keep, new FormData(this.$root));
    // Real devices offer no faster way.
    const fast = this.$root.elements.namedItem("fast");
    if (fast) cookie("hypotaxis-fast", fast.checked ? "1" : "0");
  },
});
