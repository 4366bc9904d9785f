// The code on the owner's screen carries the passphrase behind the #, which no server ever sees: it is put into its
// field, and gone from the address.
export default () => ({
  init() {
    const words = decodeURIComponent(location.hash.slice(1)).replaceAll("-", " ");
    if (!words) return;
    this.$refs.words.value = words;
    history.replaceState(null, "", location.pathname);
  },
});
