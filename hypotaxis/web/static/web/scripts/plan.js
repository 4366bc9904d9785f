// The pass plan: what waits is dragged to another pass, or moved by the arrow keys; a needle runs through what is recorded.
export default () => ({
  init() { this.watch = setInterval(() => this.needle(), 250); },
  destroy() { clearInterval(this.watch); },
  needle() {
    const share = document.querySelector("[data-share]")?.dataset.share;
    if (!share) return;
    for (const line of this.$root.querySelectorAll("td.recording .plan-needle")) {
      line.setAttribute("x1", share);
      line.setAttribute("x2", share);
    }
  },
  move(cell, to) {
    const form = cell.querySelector("form");
    const choice = form?.elements.pass;
    if (!choice || choice.value === String(to) || to < 0 || to >= choice.options.length) return;
    choice.value = to;
    form.requestSubmit();
  },
  key(event) {
    const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (!by || !event.target.matches("[data-cell]")) return;
    event.preventDefault();
    this.move(event.target, Number(event.target.closest("td").dataset.pass) + by);
  },
  grab(event) {
    const cell = event.target.closest("[data-cell]");
    if (!cell || event.button || event.target.closest("select, a, button")) return;
    event.preventDefault();
    cell.focus();
    const line = cell.closest("tr");
    const under = (now) => {
      const target = document.elementFromPoint(now.clientX, now.clientY)?.closest("td[data-pass]");
      return target && target.closest("tr") === line ? target : null;
    };
    const mark = (target) => {
      for (const one of line.querySelectorAll(".plan-aim")) one.classList.remove("plan-aim");
      target?.classList.add("plan-aim");
    };
    cell.setPointerCapture(event.pointerId);
    cell.onpointermove = (now) => mark(under(now));
    cell.onpointerup = (now) => {
      cell.onpointermove = null;
      cell.onpointerup = null;
      const target = under(now);
      mark(null);
      if (target) this.move(cell, Number(target.dataset.pass));
    };
  },
});
