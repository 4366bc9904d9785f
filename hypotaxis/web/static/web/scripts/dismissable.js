export default () => ({
  open: true,
  close() { this.open = false; },
});
