import { renewedAtLast } from "./shared.js";

// What goes into an archive: what is changed is kept at once, and the sizes follow.
export default () => ({
  async change(event) {
    const form = event.target.form;
    if (form?.id !== "wish") return;
    const id = event.target.id;
    await renewedAtLast(form);
    // Only where what had the focus was replaced: whoever went on is left where they are.
    if (id && document.activeElement === document.body) document.getElementById(id)?.focus();
  },
});
