// A figure or a command onto the clipboard. Where the browser keeps that shut, its own text is marked to be copied by hand.
export default () => ({
  word: "Copy",
  async copy() {
    try {
      await navigator.clipboard.writeText(this.$root.dataset.text);
      this.word = "Copied";
    } catch {
      this.word = this.$root.dataset.text;
      this.$nextTick(() => getSelection().selectAllChildren(this.$root));
    }
    setTimeout(() => { this.word = "Copy"; }, 4000);
  },
});
