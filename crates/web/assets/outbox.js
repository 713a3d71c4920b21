// What is entered without a network: kept on this device, sent when the server can be reached, each entry once.
(() => {
  const STORE = "outbox";
  const open = () => new Promise((good, bad) => {
    const asked = indexedDB.open("upland-visit", 1);
    asked.onupgradeneeded = () => asked.result.createObjectStore(STORE, { keyPath: "key" });
    asked.onsuccess = () => good(asked.result);
    asked.onerror = () => bad(asked.error);
  });
  const inStore = async (mode, work) => {
    const db = await open();
    try {
      return await new Promise((good, bad) => {
        const change = db.transaction(STORE, mode);
        const asked = work(change.objectStore(STORE));
        change.oncomplete = () => good(asked.result);
        change.onerror = change.onabort = () => bad(change.error);
      });
    } finally { db.close(); }
  };
  const told = () => document.dispatchEvent(new CustomEvent("outbox"));
  const put = async (entry) => { await inStore("readwrite", (store) => store.put(entry)); told(); };
  const drop = async (key) => { await inStore("readwrite", (store) => store.delete(key)); told(); };
  const all = async () => (await inStore("readonly", (store) => store.getAll())).sort((a, b) => a.at.localeCompare(b.at));
  const me = () => document.body.dataset.user || "";
  const mine = async () => (await all()).filter((entry) => entry.user === me());
  const newKey = () => [...crypto.getRandomValues(new Uint8Array(16))].map((b) => b.toString(16).padStart(2, "0")).join("");

  // Fields that every form has and nobody typed.
  const SILENT = new Set(["csrf", "next", "back", "key"]);
  const words = (node) => (node ? node.innerText.replace(/\s+/g, " ").trim() : "");

  // What a form asks, so that an entry can be read and corrected without its page.
  const shown = (form) => {
    const seen = new Map();
    for (const field of form.elements) {
      if (!field.name || SILENT.has(field.name) || field.type === "hidden" || field.type === "file" || field.type === "submit") continue;
      const label = words(field.labels && field.labels[0]) || field.getAttribute("aria-label") || field.name;
      if (field.type === "radio") {
        const group = field.closest("fieldset");
        const one = seen.get(field.name) || { name: field.name, label: words(group && group.querySelector("legend")) || field.name, kind: "choice", options: [["", "not said"]] };
        one.options.push([field.value, label]);
        seen.set(field.name, one);
      } else if (field.type === "checkbox") seen.set(field.name, { name: field.name, label, kind: "tick", on: field.value });
      else if (field.tagName === "SELECT") {
        const options = [...field.options].map((o) => [o.value, o.text]);
        seen.set(field.name, { name: field.name, label: label.replace(words(field), "").trim() || field.name, kind: "choice", options });
      } else seen.set(field.name, { name: field.name, label, kind: field.tagName === "TEXTAREA" ? "lines" : "text" });
    }
    return [...seen.values()];
  };
  const entryOf = (form, title, submitter) => {
    const fields = [...new FormData(form, submitter || null)].filter(([name, value]) => name !== "csrf" && name !== "key" && typeof value === "string");
    return {
      key: newKey(), url: form.action, user: me(), at: new Date().toISOString(), fields, title,
      page: location.pathname + location.search, site: words(document.querySelector(".where")), shown: shown(form),
    };
  };

  // Sends one entry: what the server says, or null when it cannot be reached.
  const send = async (entry) => {
    const body = entry.blob ? new FormData() : new URLSearchParams();
    body.append("csrf", document.body.dataset.csrf || "");
    for (const [name, value] of entry.fields) if (name !== "next") body.append(name, value);
    body.append("key", entry.key);
    if (entry.blob) body.append("file", entry.blob, entry.file);
    else { body.append("at", entry.at); body.append("sent_at", new Date().toISOString()); }
    const headers = { "x-part": "entry", "x-entry-key": entry.key };
    let answer;
    try { answer = await fetch(entry.url, { method: "POST", body, headers, redirect: "manual" }); } catch { return null; }
    const text = await answer.text().catch(() => "");
    let said;
    try { said = JSON.parse(text); } catch { said = { kept: false, text: faults(text) }; }
    if (answer.status === 401 || answer.type === "opaqueredirect") said = { kept: false, again: true, sign: true, text: "Sign in again to send it." };
    else if (answer.status === 429 || answer.status >= 500) said = { ...said, kept: false, again: true };
    else if (said.again && answer.status === 403) said.sign = true;
    return { more: [], text: "", ...said, status: answer.status };
  };
  // What a page says is wrong with its form.
  const faults = (html) => {
    const page = new DOMParser().parseFromString(html, "text/html");
    const said = [...page.querySelectorAll("main .help.is-danger, main .message.is-danger, main [role=alert]")].map((n) => n.textContent.replace(/\s+/g, " ").trim()).filter(Boolean);
    return [...new Set(said)].slice(0, 5).join(" ") || "The page refused it. Open the page and enter it there.";
  };

  // Sends an entry that is kept; one that was refused stays, with what was said, and stands in nobody's way.
  const trySend = async (entry) => {
    if (state.running.has(entry.key)) return null;
    state.running.add(entry.key);
    try { return await sent(entry); } finally { state.running.delete(entry.key); }
  };
  const sent = async (entry) => {
    const answer = await send(entry);
    if (answer && answer.kept) await drop(entry.key);
    else if (answer && !answer.again) await put({ ...entry, refused: [answer.text, ...answer.more].join(" ") });
    state.sign = Boolean(answer && answer.sign);
    return answer;
  };
  const state = { sign: false, sending: false, running: new Set() };
  const flush = async () => {
    if (state.sending || !me()) return;
    state.sending = true;
    try {
      for (const entry of await mine()) {
        if (entry.refused) continue;
        const answer = await trySend(entry);
        // Without a network or a session none of the others goes either; a fault of one is no fault of the next.
        if (!answer || answer.sign || answer.status === 429) break;
      }
    } catch { /* This browser keeps nothing: then there is nothing to send. */ }
    finally { state.sending = false; told(); }
  };
  // A moment as its reader writes it.
  const when = (iso) => {
    const at = new Date(iso), month = at.toLocaleString("en", { month: "short" });
    const clock = at.toLocaleTimeString("en", { hour: "2-digit", minute: "2-digit", hourCycle: document.body.dataset.hours === "12" ? "h12" : "h23" });
    return `${document.body.dataset.dates === "month" ? `${month} ${at.getDate()}` : `${at.getDate()} ${month}`}, ${clock}`;
  };
  window.uplandOutbox = { when, put, drop, all, mine, entryOf, trySend, flush, newKey, words, signedOut: () => state.sign };

  // A form that may be sent later: at once where the server can be reached, as if it had been sent without a script.
  const queued = async (event) => {
    const form = event.target;
    if (!form.dataset || form.dataset.queue === undefined || form.dataset.plain || !me()) return;
    event.preventDefault();
    const submitter = event.submitter;
    const plainly = () => { form.dataset.plain = "yes"; form.requestSubmit(submitter); };
    const entry = entryOf(form, form.dataset.queue || words(submitter) || document.title, submitter);
    try { await put(entry); } catch { plainly(); return; }
    const answer = await trySend(entry);
    if (answer && answer.kept) {
      const to = new URL(answer.to || location.href, location.href);
      const stays = to.pathname + to.search === location.pathname + location.search;
      if (stays) { history.replaceState(null, "", to.href); location.reload(); } else location.assign(to.href);
    } else if (answer && !answer.again) { await drop(entry.key); plainly(); }
    else waits(form);
  };
  const waits = (form) => {
    let line = form.querySelector(".kept-here");
    if (!line) { line = document.createElement("span"); line.className = "kept-here tag"; line.setAttribute("role", "status"); form.append(line); }
    line.textContent = "kept here, sent later";
    form.dataset.waits = "yes";
  };

  // The count in the head of each page.
  const count = async () => {
    const link = document.querySelector("[data-waiting]");
    if (!link) return;
    const own = await mine().catch(() => []);
    const refused = own.filter((entry) => entry.refused).length;
    link.hidden = own.length === 0;
    link.textContent = refused ? `${own.length} not sent, ${refused} refused` : `${own.length} not sent`;
    link.classList.toggle("is-wrong", refused > 0 || state.sign);
  };
  document.addEventListener("outbox", count);
  document.addEventListener("submit", queued);
  window.addEventListener("online", flush);
  document.addEventListener("DOMContentLoaded", () => {
    const kept = document.body.dataset.keptAt, line = document.querySelector("[data-keptline]");
    if (kept && line) {
      const hours = Math.round((Date.now() - new Date(kept)) / 36e5);
      const age = hours < 1 ? "less than an hour ago" : hours < 48 ? `${hours} ${hours === 1 ? "hour" : "hours"} ago` : `${Math.round(hours / 24)} days ago`;
      line.textContent = document.body.dataset.missing
        ? "The server cannot be reached, and the page you asked for was not taken along. What is on this device is listed here."
        : `The server cannot be reached. This page is as it was ${age}; what you enter is kept and sent later.`;
      line.hidden = false;
    }
    count();
    flush();
    setInterval(flush, 20000);
  });
})();
