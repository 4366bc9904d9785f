// What was opened far down a long page comes into view, unless the address names another place.
export default () => ({
  init() {
    if (!location.hash && this.$el.getBoundingClientRect().bottom > innerHeight - 120) this.$el.scrollIntoView();
  },
});
