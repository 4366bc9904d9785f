import { press, tellAgain, typing } from "./shared.js";

export default () => ({
  init() { tellAgain(); },
  toggleHelp() {
    const help = this.$refs.help;
    if (help.open) help.close();
    else help.showModal();
  },
  key(event) {
    if (event.key === "Escape") {
      // While something plays on real devices, the way out is silence.
      const panic = document.getElementById("panic");
      if (panic && document.querySelector("[data-sounding]")) {
        press(panic);
        return;
      }
      const way = document.querySelector("[data-escape]");
      if (way && !document.querySelector("dialog[open]")) way.click();
      return;
    }
    if (typing(event.target)) return;
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z") {
      event.preventDefault();
      document.getElementById(event.shiftKey ? "redo" : "undo")?.click();
      return;
    }
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === "?") this.toggleHelp();
    if (event.key >= "1" && event.key <= "9") {
      document.querySelectorAll(".work-line a")[Number(event.key) - 1]?.click();
    }
    const aimed = document.querySelector(`[data-key="${CSS.escape(event.key)}"]`);
    if (aimed && !aimed.disabled) {
      event.preventDefault();
      if (aimed.matches("input")) aimed.focus();
      else press(aimed);
    }
  },
});
