import { cookie } from "./shared.js";

// What is typed for the next pass is still there after arming a track, or coming back from another step.
const SECRET = ["csrfmiddlewaretoken", "token", "of_rig", "of_session", "fast"];

export default () => ({
  keep() {
    const typed = new URLSearchParams(new FormData(this.$root));
    for (const name of [...typed.keys()].filter((one) => SECRET.includes(one) || one.startsWith("of"))) typed.delete(name);
    cookie("hypotaxis-pass", `${document.body.dataset.session}?${typed}`);
    // Real devices offer no faster way.
    const fast = this.$root.elements.namedItem("fast");
    if (fast) cookie("hypotaxis-fast", fast.checked ? "1" : "0");
  },
});
