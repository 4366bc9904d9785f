// A list of a page on which many offer the same: the page holds that once, and each list is given it in an idle moment, or
// when the person comes to it. Until then it has what is chosen.
const later = window.requestIdleCallback ?? ((act) => setTimeout(act, 1));

export default () => ({
  init() {
    const list = this.$root;
    const fill = () => {
      if (list.dataset.filled) return;
      list.dataset.filled = "true";
      const held = [...list.options];
      const chosen = list.value;
      list.replaceChildren(document.getElementById(list.dataset.options).content.cloneNode(true));
      const offered = new Map([...list.options].map((one) => [one.value, one]));
      list.append(...held.filter((one) => !offered.has(one.value)));
      if (offered.has(chosen)) offered.get(chosen).defaultSelected = true;
    };
    later(fill);
    for (const event of ["pointerdown", "focus"]) list.addEventListener(event, fill);
  },
});
