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
      this.$root.querySelector("[autofocus], .field input, .field select, .ports input, [data-escape]")?.focus();
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

  // A search that looks while it is typed; the answer replaces the list below it.
  // What was opened far down a long page comes into view, unless the address names another place.
  Alpine.data("broughtIntoView", () => ({
    init() {
      if (!location.hash && this.$el.getBoundingClientRect().bottom > innerHeight - 120) this.$el.scrollIntoView();
    },
  }));

  Alpine.data("finder", () => ({
    waiting: null,
    look(event) {
      clearTimeout(this.waiting);
      const words = event.target.value;
      this.waiting = setTimeout(() => this.fetch(words), 120);
    },
    fetch(words) {
      const address = new URL(this.$root.dataset.url, location.href);
      address.searchParams.set("q", words);
      const into = this.$root.dataset.into;
      fetchInto(into ? document.getElementById(into) : this.$refs.found, address);
    },
  }));

  // The channel ruler: the instrument's own cell is dragged to another one (choosing a cell does the same).
  Alpine.data("channelRuler", () => ({
    held: false,
    press(event) { this.held = Boolean(event.target.closest("[data-mine]")); },
    drop(event) {
      const cell = document.elementFromPoint(event.clientX, event.clientY)?.closest("button[name=channel]");
      if (this.held && cell && !("mine" in cell.dataset)) this.$root.requestSubmit(cell);
      this.held = false;
    },
  }));

  // Keys and pads: how far down they are struck is the velocity; letters of the lowest row play one key after the other.
  Alpine.data("keys", () => ({
    init() {
      for (const key of this.$root.querySelectorAll("[data-x]")) key.style.left = `${key.dataset.x}px`;
    },
    play(event) {
      const key = event.target.closest("[data-note]");
      const box = key.getBoundingClientRect();
      this.strike(key, 30 + Math.round((97 * (event.clientY - box.top)) / box.height));
    },
    typed(event) {
      const place = "zxcvbnm".indexOf(event.key.toLowerCase());
      if (place < 0 || event.ctrlKey || event.metaKey || event.altKey) return;
      event.preventDefault();
      event.stopPropagation();
      const keys = [...this.$root.querySelectorAll("[data-note]:not(:disabled)")].sort((a, b) => a.dataset.note - b.dataset.note);
      if (keys[place]) this.strike(keys[place], 100);
    },
    strike(key, velocity) {
      this.$root.elements.note.value = key.dataset.note;
      this.$root.elements.velocity.value = Math.min(127, Math.max(1, velocity));
      this.$root.requestSubmit();
    },
  }));

  // A matrix of buttons: the pressed one names its row and column in the form.
  Alpine.data("matrix", () => ({
    choose(event) {
      const cell = event.target.closest("[data-source]");
      if (!cell) return;
      this.$root.elements.source.value = cell.dataset.source;
      this.$root.elements.target.value = cell.dataset.target;
      this.$root.requestSubmit();
    },
  }));

  Alpine.data("printer", () => ({
    print() { window.print(); },
  }));

  Alpine.data("rigSheet", rigSheet);
});

const NEAREST = 4;
const FURTHEST = 0.2;
const DRAG_PX = 5;

// The sheet of the rig. Choosing a second socket, or dragging onto it, draws the cable; dragging a cabled socket moves
// that end; a box is dragged by its name within its column; the empty sheet is dragged to look elsewhere.
function rigSheet() {
  return {
    whole: null,
    view: null,
    held: null,
    init() {
      const box = this.$refs.sheet.viewBox.baseVal;
      this.whole = { x: box.x, y: box.y, width: box.width, height: box.height };
      this.view = { ...this.whole };
    },
    // --- looking
    at(event) {
      const point = new DOMPoint(event.clientX, event.clientY);
      return point.matrixTransform(this.$refs.sheet.getScreenCTM().inverse());
    },
    show() {
      const { x, y, width, height } = this.view;
      this.$refs.sheet.setAttribute("viewBox", `${x} ${y} ${width} ${height}`);
      this.$refs.view.classList.toggle("zoomed", width < this.whole.width);
    },
    zoom(factor, around) {
      const scale = Math.min(NEAREST, Math.max(FURTHEST, (this.whole.width / this.view.width) * factor));
      const width = this.whole.width / scale;
      const shrink = width / this.view.width;
      const centre = around || { x: this.view.x + this.view.width / 2, y: this.view.y + this.view.height / 2 };
      this.view.x = centre.x - (centre.x - this.view.x) * shrink;
      this.view.y = centre.y - (centre.y - this.view.y) * shrink;
      this.view.width = width;
      this.view.height *= shrink;
      this.show();
    },
    nearer() { this.zoom(1.3); },
    further() { this.zoom(1 / 1.3); },
    // All of it: as wide as the page, or as high as the window where the sheet is higher than that.
    fit() {
      const room = window.innerHeight - this.$refs.view.getBoundingClientRect().top - window.scrollY - 110;
      const shown = this.$refs.sheet.getBoundingClientRect().width;
      const high = (this.whole.height * shown) / this.whole.width;
      const already = this.view.width === this.whole.width;
      this.view = { ...this.whole };
      this.$refs.sheet.style.height = "";
      if (high > room && already) this.$refs.sheet.style.height = `${Math.max(300, room)}px`;
      this.show();
    },
    wheel(event) {
      if (!event.ctrlKey) return;
      event.preventDefault();
      this.zoom(event.deltaY < 0 ? 1.15 : 1 / 1.15, this.at(event));
    },
    zoomKeys(event) {
      if (typing(event.target) || event.ctrlKey || event.metaKey || event.altKey) return;
      if (event.key === "+") this.nearer();
      if (event.key === "-") this.further();
      if (event.key === "0") this.fit();
    },
    // --- dragging
    press(event) {
      if (event.button !== 0 || event.target.closest("button, foreignObject")) return;
      const socket = event.target.closest("[data-socket]");
      const name = event.target.closest(".box-link");
      const card = name && name.closest("[data-move]");
      if (!socket && !card && event.target.closest("a")) return;
      this.held = { socket, card, from: { x: event.clientX, y: event.clientY }, start: { ...this.view }, moved: false, pointer: event.pointerId };
    },
    drag(event) {
      const held = this.held;
      if (!held) return;
      if (!held.moved && Math.hypot(event.clientX - held.from.x, event.clientY - held.from.y) < DRAG_PX) return;
      if (!held.moved) {
        held.moved = true;
        this.$refs.view.setPointerCapture(held.pointer);
        this.$refs.view.classList.add(held.socket ? "dragging" : "moving");
      }
      event.preventDefault();
      if (held.socket) this.pull(event);
      else if (held.card) this.carry(event);
      else this.pan(event);
    },
    pull(event) {
      this.held.dot ??= this.anchor(this.held.socket);
      const dot = this.held.dot;
      const here = this.at(event);
      this.$refs.drawn.setAttribute("d", `M${dot.x} ${dot.y}L${here.x} ${here.y}`);
    },
    // Where a line to the pointer starts: at the socket, or at the other end of its cable, which stays plugged.
    anchor(socket) {
      const cable = socket.dataset.cable;
      const other = cable && [...this.$refs.sheet.querySelectorAll(`[data-cable="${cable}"]`)].find((one) => one !== socket);
      const box = (other || socket).querySelector(".dot, .stub").getBBox();
      return { x: box.x + box.width / 2, y: box.y + box.height / 2 };
    },
    carry(event) {
      this.held.card.classList.add("dragged");
      this.held.card.setAttribute("transform", `translate(0 ${this.at(event).y - this.fromY()})`);
    },
    fromY() {
      const point = new DOMPoint(this.held.from.x, this.held.from.y);
      return point.matrixTransform(this.$refs.sheet.getScreenCTM().inverse()).y;
    },
    pan(event) {
      const scale = this.view.width / this.$refs.sheet.getBoundingClientRect().width;
      this.view.x = this.held.start.x - (event.clientX - this.held.from.x) * scale;
      this.view.y = this.held.start.y - (event.clientY - this.held.from.y) * scale;
      this.show();
    },
    drop(event) {
      const held = this.held;
      this.letGo();
      if (!held?.moved) return;
      // The click that ends a drag chooses nothing.
      this.$refs.view.addEventListener("click", (click) => { click.preventDefault(); click.stopPropagation(); }, { capture: true, once: true });
      setTimeout(() => this.$refs.view.dispatchEvent(new MouseEvent("click")), 0);
      if (held.socket) this.plug(held.socket, document.elementFromPoint(event.clientX, event.clientY)?.closest("[data-socket]"));
      else if (held.card) this.place(held.card, this.at(event).y);
    },
    letGo() {
      if (!this.held) return;
      this.$refs.drawn.setAttribute("d", "");
      this.$refs.view.classList.remove("dragging", "moving");
      this.held.card?.classList.remove("dragged");
      this.held.card?.removeAttribute("transform");
      this.held = null;
    },
    plug(from, to) {
      if (!to || to === from) return;
      if (from.dataset.cable) {
        const form = document.getElementById("replug-now");
        form.elements.cable.value = from.dataset.cable;
        form.elements.end.value = from.dataset.socket;
        form.elements.to.value = to.dataset.socket;
        form.requestSubmit();
        return;
      }
      this.connect(from.dataset.socket, to.dataset.socket);
    },
    connect(source, target) {
      const form = document.getElementById("connect-now");
      form.elements.source.value = source;
      form.elements.target.value = target;
      form.requestSubmit();
    },
    // A box comes to stand above the first card of its column whose middle is below the pointer.
    place(card, y) {
      const column = [...this.$refs.sheet.querySelectorAll(`[data-role="${card.dataset.role}"]`)].filter((one) => one !== card);
      const above = column.filter((one) => {
        const box = one.querySelector(".unit").getBBox();
        return box.y + box.height / 2 < y;
      });
      const form = document.getElementById("place-now");
      form.action = card.dataset.move;
      form.elements.place.value = above.length;
      form.requestSubmit();
    },
    // --- choosing
    choose(event) {
      const socket = event.target.closest("[data-fits]");
      if (!socket) return;
      event.preventDefault();
      this.connect(document.getElementById("connect-now").elements.source.value, socket.dataset.fits);
    },
    keys(event) {
      if (event.key === " " && event.target.closest("a")) {
        event.preventDefault();
        press(event.target.closest("a"));
      }
    },
  };
}
