// A strip of a track: where it was clicked, as a share of its width, chooses the moment under the glass.
export default () => ({
  choose(event) {
    if (!event.clientX) return;
    event.preventDefault();
    const box = this.$root.getBoundingClientRect();
    const query = new URLSearchParams(location.search);
    query.delete("tick");
    query.set("at", ((event.clientX - box.left) / box.width).toFixed(5));
    location.assign(`?${query}#tracks`);
  },
});
