// Behaviour of every page: shortcuts, day and night, the choice of session, polling of background work.
// All numbers and coordinates come from the server; components only fetch, show and send.

function cookie(name, value) {
  document.cookie = `${name}=${value}; path=/; max-age=31536000; SameSite=Strict`;
}

// Links in SVG have no click() of their own.
function press(element) {
  element.dispatchEvent(new MouseEvent("click", { bubbles: true, cancelable: true }));
}

function typing(target) {
  return target.closest && target.closest("input, select, textarea, dialog[open]");
}

// Goes to an address, and loads it anew when the page is there already.
function leadTo(address) {
  const target = new URL(address, location.href);
  const here = target.pathname + target.search === location.pathname + location.search;
  location.assign(address);
  if (here) location.reload();
}

// Fetches what the server rendered: its named parts replace their likes on the page; without parts it fills `element`.
async function fetchInto(element, url) {
  try {
    const answer = await fetch(url, { headers: { "X-Fragment": "1" } });
    if (!answer.ok) return null;
    const fresh = document.createElement("template");
    fresh.innerHTML = await answer.text();
    const parts = fresh.content.querySelectorAll("[data-part]");
    for (const part of parts) document.querySelector(`[data-part="${part.dataset.part}"]`)?.replaceWith(part);
    if (!parts.length) element.replaceChildren(fresh.content);
    return answer.headers;
  } catch {
    return null;
  }
}

document.addEventListener("alpine:init", () => {
  Alpine.data("page", () => ({
    toggleHelp() {
      const help = this.$refs.help;
      if (help.open) help.close();
      else help.showModal();
    },
    key(event) {
      if (event.key === "Escape") {
        const way = document.querySelector("[data-escape]");
        if (way && !document.querySelector("dialog[open]")) way.click();
        return;
      }
      if (typing(event.target)) return;
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z") {
        event.preventDefault();
        document.getElementById(event.shiftKey ? "redo" : "undo")?.click();
        return;
      }
      if (event.ctrlKey || event.metaKey || event.altKey) return;
      if (event.key === "?") this.toggleHelp();
      if (event.key >= "1" && event.key <= "6") {
        document.querySelectorAll(".work-line a")[Number(event.key) - 1]?.click();
      }
      const aimed = document.querySelector(`[data-key="${CSS.escape(event.key)}"]`);
      if (aimed && !aimed.disabled) {
        event.preventDefault();
        if (aimed.matches("input")) aimed.focus();
        else press(aimed);
      }
    },
  }));

  Alpine.data("theme", () => ({
    now: document.documentElement.dataset.theme || (matchMedia("(prefers-color-scheme: dark)").matches ? "night" : "day"),
    set(value) {
      this.now = value;
      document.documentElement.dataset.theme = value;
      cookie("hypotaxis-theme", value);
    },
    day() { this.set("day"); },
    night() { this.set("night"); },
    get isDay() { return this.now === "day" ? "true" : "false"; },
    get isNight() { return this.now === "night" ? "true" : "false"; },
  }));

  Alpine.data("sessionChoice", () => ({
    choose(event) {
      cookie("hypotaxis-session", event.target.value);
      location.reload();
    },
  }));

  Alpine.data("dismissable", () => ({
    open: true,
    close() { this.open = false; },
  }));

  // A form that is sent as soon as something in it changes.
  Alpine.data("autoSubmit", () => ({
    send() { this.$root.requestSubmit(); },
  }));

  // Focus moves into a sheet when it opens.
  Alpine.data("sheet", () => ({
    init() {
      this.$root.querySelector("[autofocus], .field input, .field select, button")?.focus();
    },
  }));

  // Background work: fetches its state several times a second until it is finished. What is pressed stays outside the
  // parts that are replaced, so that no click falls between two of them.
  Alpine.data("poller", () => ({
    silent: 0,
    finished: false,
    init() { this.next(); },
    next() { setTimeout(() => this.look(), 250); },
    async look() {
      if (!this.$root.isConnected) return;
      const headers = await fetchInto(this.$root, this.$root.dataset.url);
      if (!headers) {
        this.silent += 1;
        if (this.silent === 8) this.$root.insertAdjacentHTML("afterbegin", '<p class="wrong-text">Hypotaxis does not answer. Is it still running?</p>');
      } else if (headers.get("X-Finished") === "1") {
        this.finished = true;
        const next = this.$root.dataset.then;
        if (next) leadTo(next);
        return;
      } else {
        this.silent = 0;
      }
      this.next();
    },
  }));

  // A form with large files: shows how much has been sent and how long it takes, can be stopped, and keeps what was
  // chosen when the server refuses it.
  Alpine.data("upload", () => ({
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
  }));

  // A picture with its own controls: links and forms inside it fetch the fragment anew instead of the page.
  Alpine.data("fragment", () => ({
    async follow(event) {
      const link = event.target.closest("a[data-fragment]");
      if (!link) return;
      event.preventDefault();
      const name = link.dataset.fragment;
      await fetchInto(this.$root, link.href);
      this.$root.querySelector(`[data-fragment="${name}"]`)?.focus();
    },
  }));

  // A strip of a track: where it was clicked, as a share of its width, chooses the moment under the glass.
  Alpine.data("strip", () => ({
    choose(event) {
      if (!event.clientX) return;
      event.preventDefault();
      const box = this.$root.getBoundingClientRect();
      const query = new URLSearchParams(location.search);
      query.delete("tick");
      query.set("at", ((event.clientX - box.left) / box.width).toFixed(5));
      location.assign(`?${query}#tracks`);
    },
  }));

  // The sheet of the rig: the second of two chosen sockets draws the cable.
  Alpine.data("rigSheet", () => ({
    choose(event) {
      const socket = event.target.closest("[data-fits]");
      if (!socket) return;
      event.preventDefault();
      const form = document.getElementById("connect-now");
      form.elements.target.value = socket.dataset.fits;
      form.requestSubmit();
    },
    keys(event) {
      if (event.key === " " && event.target.closest("a")) {
        event.preventDefault();
        press(event.target.closest("a"));
      }
    },
  }));
});
