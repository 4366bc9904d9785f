// What several behaviours use.

export function cookie(name, value) {
  document.cookie = `${name}=${value}; path=/; max-age=31536000; SameSite=Strict`;
}

// Links in SVG have no click() of their own.
export function press(element) {
  element.dispatchEvent(new MouseEvent("click", { bubbles: true, cancelable: true }));
}

export function typing(target) {
  return target.closest && target.closest("input, select, textarea, dialog[open]");
}

// Whether the person is on the way to another page: nothing may call them back from it. A download looks the same at
// first, so it does not last.
const LEAVING_MS = 3000;
let leftAt = -LEAVING_MS;
addEventListener("beforeunload", () => { leftAt = performance.now(); });

export function leaving() {
  return performance.now() - leftAt < LEAVING_MS;
}

// What was told when a page came, and is lost when it is led away at once, is told on the next one.
const JUST_TOLD_MS = 8000;
const shownAt = performance.now();
const TOLD = "hypotaxis-told";

function keepTold() {
  const told = document.querySelector("[data-part=messages]")?.innerHTML.trim();
  if (told && performance.now() - shownAt < JUST_TOLD_MS) sessionStorage.setItem(TOLD, told);
}

export function tellAgain() {
  const told = sessionStorage.getItem(TOLD);
  sessionStorage.removeItem(TOLD);
  if (told) document.querySelector("[data-part=messages]")?.insertAdjacentHTML("beforeend", told);
}

// Goes to an address, and loads it anew when the page is there already.
export function leadTo(address) {
  keepTold();
  const target = new URL(address, location.href);
  const here = target.pathname + target.search === location.pathname + location.search;
  location.assign(address);
  if (here) location.reload();
}

// Fetches what the server rendered: its named parts replace their likes on the page; without parts it fills `element`.
// What has not changed since the last time (204) leaves the page as it is. A part inside another one comes with it.
export async function fetchInto(element, url) {
  try {
    const shown = document.body.dataset;
    const answer = await fetch(url, {
      headers: {
        "X-Fragment": "1", "X-Of-Rig": shown.rig ?? "", "X-Of-Session": shown.session ?? "",
        "X-State": element.dataset.state ?? "",
      },
    });
    if (!answer.ok) return null;
    if (answer.headers.has("X-State")) element.dataset.state = answer.headers.get("X-State");
    if (answer.status === 204) return answer.headers;
    const fresh = document.createElement("template");
    fresh.innerHTML = await answer.text();
    const named = [...fresh.content.querySelectorAll("[data-part]")];
    const parts = named.filter((part) => !part.parentElement?.closest("[data-part]"));
    for (const part of parts) document.querySelector(`[data-part="${part.dataset.part}"]`)?.replaceWith(part);
    if (!parts.length) element.replaceChildren(fresh.content);
    return answer.headers;
  } catch {
    return null;
  }
}

// Sends a form and takes from what answers the parts that are named alike: the page stays where it is, and its address
// follows. One after the other, so that no older answer comes behind a newer one.
let sending = Promise.resolve();

export function renewed(form, by) {
  return queued(form, by, () => true);
}

// The same where every answer holds the whole state: only the last one counts, since an older one would put back what
// was changed meanwhile.
let asked = 0;

export function renewedAtLast(form) {
  asked += 1;
  const mine = asked;
  return queued(form, null, () => mine === asked);
}

function queued(form, by, counts) {
  const data = new FormData(form, by);
  sending = sending.then(() => send(form.getAttribute("action") ?? location.href, data, counts));
  return sending;
}

async function send(address, data, counts) {
  try {
    const answer = await fetch(address, { method: "POST", body: data, headers: { "X-Soft": "1" } });
    if (!counts()) return;
    const fresh = document.createElement("template");
    fresh.innerHTML = await answer.text();
    const parts = answer.ok ? fresh.content.querySelectorAll("[data-part]") : [];
    for (const part of parts) document.querySelector(`[data-part="${part.dataset.part}"]`)?.replaceWith(part);
    if (parts.length) history.replaceState(null, "", answer.headers.get("X-Address") ?? answer.url);
    else location.reload();
  } catch {
    const told = '<p class="alert alert-danger">Hypotaxis does not answer, so nothing was changed. Is it still running?</p>';
    document.querySelector("[data-part=messages]")?.insertAdjacentHTML("afterbegin", told);
  }
}
