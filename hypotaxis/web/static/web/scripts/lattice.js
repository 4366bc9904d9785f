// The ends of the loop are dragged along the bars, or moved by the arrow keys; how far goes to the server with the form.
export default () => ({
  init() {
    this.$root.querySelectorAll(".edge-handle").forEach((edge) => {
      edge.addEventListener("pointerdown", (event) => this.drag(event, edge));
      edge.addEventListener("keydown", (event) => {
        const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
        if (!by) return;
        event.preventDefault();
        this.move(edge, by);
      });
    });
  },
  drag(event, edge) {
    event.preventDefault();
    edge.setPointerCapture(event.pointerId);
    const px = Number(this.$root.dataset.px);
    const stood = edge.getAttribute("transform");
    const bars = (now) => Math.round((now.clientX - event.clientX) / px);
    edge.onpointermove = (now) => edge.setAttribute("transform", `${stood ?? ""} translate(${bars(now) * px} 0)`);
    edge.onpointerup = (now) => {
      edge.onpointermove = null;
      edge.onpointerup = null;
      if (bars(now)) this.move(edge, bars(now));
      else edge.setAttribute("transform", stood ?? "");
    };
  },
  move(edge, bars) {
    const form = document.getElementById("loop-form");
    form.elements.edge.value = edge.dataset.edge;
    form.elements.by.value = bars;
    form.requestSubmit();
  },
});
