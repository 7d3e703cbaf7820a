// Talking to the server: errors arrive as sentences and are shown as they are.
function token() {
  return document.querySelector("[name=csrfmiddlewaretoken]").value;
}

export class Refusal extends Error {
  constructor(status, body) {
    super(body.error || "The server did not answer as expected; reload the page.");
    this.status = status;
    this.body = body;
  }
}

async function checked(response) {
  if (response.ok) return response;
  let body = {};
  try { body = await response.json(); } catch { /* not JSON: the general sentence stands */ }
  throw new Refusal(response.status, body);
}

async function reach(url, options) {
  try {
    return await fetch(url, options);
  } catch (error) {
    if (error.name === "AbortError") throw error;
    throw new Refusal(0, { error: "The server does not answer. Is it still running?" });
  }
}

export async function getJson(url, options) {
  return (await checked(await reach(url, options))).json();
}

export async function getPage(url, options) {
  return (await checked(await reach(url, options))).text();
}

export async function getBytes(url, options) {
  const response = await checked(await reach(url, options));
  return { bytes: await response.arrayBuffer(), headers: response.headers };
}

async function sent(url, data, how = {}) {
  const options = { method: "POST", headers: { "X-CSRFToken": token() }, ...how };
  if (data instanceof FormData) options.body = data;
  else {
    options.headers["Content-Type"] = "application/json";
    options.body = JSON.stringify(data || {});
  }
  return checked(await reach(url, options));
}

export async function post(url, data, how) {
  return (await sent(url, data, how)).json();
}

export async function postForPage(url, data) {
  return (await sent(url, data)).text();
}

const SHOWN_MS = 7000, ASKED_MS = 30000;
let hiding = 0;
// A sentence for a while; with something to do about it, a button and longer.
export function notify(text, offer = null) {
  const box = document.getElementById("notice");
  if (!box) return;
  box.textContent = text;
  box.hidden = false;
  clearTimeout(hiding);
  hiding = setTimeout(() => { box.hidden = true; }, offer ? ASKED_MS : SHOWN_MS);
  if (!offer) return;
  const button = box.appendChild(document.createElement("button"));
  button.type = "button";
  button.textContent = offer.words;
  button.addEventListener("click", () => { box.hidden = true; offer.run(); });
}
