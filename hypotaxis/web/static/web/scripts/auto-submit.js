// A form that is sent as soon as something in it changes.
export default () => ({
  send() { this.$root.requestSubmit(); },
});
