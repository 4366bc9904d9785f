// When another box is chosen for a new instrument, what the sheet says of it is filled in; a typed name stays.
export default () => ({
  proposed: "",
  init() { this.proposed = this.$root.elements.namedItem("name").value; },
  ask(event) {
    if (event.target.name !== "box") return;
    const address = new URL(location.pathname, location.href);
    address.searchParams.set("box", event.target.value);
    const name = this.$root.elements.namedItem("name").value;
    if (name !== this.proposed) address.searchParams.set("name", name);
    location.assign(address);
  },
});
