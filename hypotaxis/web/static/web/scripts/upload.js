// A form with large files: shows how much has been sent and how long it takes, can be stopped, and keeps what was
// chosen when the server refuses it.
export default () => ({
  sending: false,
  share: 0,
  told: "",
  wrong: [],
  request: null,
  send(event) {
    event.preventDefault();
    const form = this.$root;
    const began = performance.now();
    const request = new XMLHttpRequest();
    this.request = request;
    this.wrong = [];
    this.share = 0;
    this.told = "";
    this.sending = true;
    request.upload.onprogress = (part) => {
      if (!part.total) return;
      const passed = (performance.now() - began) / 1000;
      const left = part.loaded ? (passed * (part.total - part.loaded)) / part.loaded : 0;
      this.share = (100 * part.loaded) / part.total;
      this.told = part.loaded < part.total ? `${Math.round(this.share)} % sent, ${Math.ceil(left)} s left` : "reading the score";
    };
    request.onload = () => this.answered(request);
    request.onerror = () => this.refused(["Hypotaxis does not answer. Is it still running? Nothing was kept."]);
    request.onabort = () => this.refused([]);
    request.open("POST", form.action);
    request.setRequestHeader("X-Fragment", "1");
    request.send(new FormData(form));
  },
  answered(request) {
    let answer = {};
    try {
      answer = JSON.parse(request.responseText);
    } catch {
      answer = { errors: ["It could not be sent. Reload the page and try again; the log says more."] };
    }
    if (answer.next) location.assign(answer.next);
    else this.refused(answer.errors);
  },
  refused(reasons) {
    this.sending = false;
    this.wrong = reasons;
  },
  stop() { this.request?.abort(); },
});
