// Runs at once, before the behaviours, which start when all scripts have come: what is changed until then stands on the
// page, and is told to them when they have started; it would be lost otherwise.
{
  const early = [];
  const note = (event) => early.push([event.target, event.type]);
  for (const kind of ["input", "change"]) document.addEventListener(kind, note, true);
  document.addEventListener("alpine:initialized", () => {
    for (const kind of ["input", "change"]) document.removeEventListener(kind, note, true);
    for (const [field, kind] of early) field.dispatchEvent(new Event(kind, { bubbles: true }));
  });
}
