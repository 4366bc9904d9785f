export default () => ({
  print() { window.print(); },
});
