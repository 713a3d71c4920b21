// A visit on a phone: one screen after the other, kept on the phone until the network is back.
(() => {
  const NAME = "upland-visit";
  const open = () => new Promise((good, bad) => {
    const asked = indexedDB.open(NAME, 1);
    asked.onupgradeneeded = () => asked.result.createObjectStore("outbox", { keyPath: "key" });
    asked.onsuccess = () => good(asked.result);
    asked.onerror = () => bad(asked.error);
  });
  const inStore = async (mode, work) => {
    const db = await open();
    try {
      return await new Promise((good, bad) => {
        const change = db.transaction("outbox", mode);
        const asked = work(change.objectStore("outbox"));
        change.oncomplete = () => good(asked.result);
        change.onerror = change.onabort = () => bad(change.error);
      });
    } finally { db.close(); }
  };
  const keep = (entry) => inStore("readwrite", (store) => store.put(entry));
  const kept = () => inStore("readonly", (store) => store.getAll());
  const drop = (key) => inStore("readwrite", (store) => store.delete(key));
  const newKey = () => [...crypto.getRandomValues(new Uint8Array(16))].map((b) => b.toString(16).padStart(2, "0")).join("");

  // Sends one entry; what the server says, or null when it cannot be reached or somebody must sign in.
  const send = async (entry, csrf) => {
    const body = entry.blob ? new FormData() : new URLSearchParams();
    body.append("csrf", csrf);
    for (const [name, value] of entry.fields) body.append(name, value);
    body.append("key", entry.key);
    if (entry.blob) body.append("file", entry.blob, entry.file);
    else { body.append("at", entry.at); body.append("sent_at", new Date().toISOString()); }
    let answer;
    try { answer = await fetch(entry.url, { method: "POST", body, headers: { "x-part": "entry" }, redirect: "manual" }); }
    catch { return null; }
    if (answer.type === "opaqueredirect" || answer.status === 401 || answer.status === 403 || answer.status >= 500) return { again: true, status: answer.status };
    try { return { ...(await answer.json()), status: answer.status }; } catch { return { again: true, status: answer.status }; }
  };

  document.addEventListener("alpine:init", () => {
    Alpine.data("visit", () => ({
      at: 0, count: 0, left: 0, others: 0, trouble: "", sending: false,
      get steps() { return [...this.$root.querySelectorAll("[data-step]")]; },
      get place() { return `Screen ${this.at + 1} of ${this.count}`; },
      get waiting() {
        const said = [];
        if (this.left) said.push(`${this.left} kept on this phone, sent when the network is back`);
        if (this.others) said.push(`${this.others} of somebody else wait until they sign in`);
        if (this.trouble) said.push(this.trouble);
        return said.join("; ");
      },
      init() {
        this.count = this.steps.length;
        this.steps.forEach((step) => {
          step.querySelectorAll("form").forEach((form) => form.addEventListener("submit", (event) => this.save(event)));
          step.addEventListener("input", (event) => this.changed(event));
        });
        this.$root.querySelectorAll("form.photo input[type=file]").forEach((input) => input.addEventListener("change", () => this.photo(input)));
        this.$root.querySelectorAll("[data-noscript]").forEach((button) => { button.hidden = true; });
        this.$refs.nav.hidden = false;
        const asked = this.steps.findIndex((step) => `#${step.id}` === location.hash);
        this.show(asked < 0 ? 0 : asked);
        document.addEventListener("keydown", (event) => this.key(event));
        let from = null;
        this.$root.addEventListener("touchstart", (event) => { from = event.changedTouches[0]; }, { passive: true });
        this.$root.addEventListener("touchend", (event) => {
          const to = event.changedTouches[0];
          const along = from ? to.clientX - from.clientX : 0;
          if (from && Math.abs(along) > 70 && Math.abs(to.clientY - from.clientY) < 50) along < 0 ? this.on() : this.back();
          from = null;
        }, { passive: true });
        window.addEventListener("online", () => this.flush());
        setInterval(() => this.flush(), 20000);
        this.flush();
        this.stay();
      },
      // Pages of this site stay usable without a network.
      async stay() {
        if (!("serviceWorker" in navigator)) return;
        try {
          await navigator.serviceWorker.register("/visit-worker.js");
          const worker = (await navigator.serviceWorker.ready).active;
          const assets = [...document.querySelectorAll("script[src], link[rel=stylesheet], link[rel=preload]")].map((e) => e.src || e.href);
          const pages = this.$root.dataset.keep.split(" ").filter(Boolean);
          worker.postMessage({ keep: [`${this.$root.dataset.root}/visit`, ...pages, ...assets] });
        } catch { this.trouble = "this browser keeps no pages for later; what you enter is still kept"; }
      },
      key(event) {
        if (event.target.matches("input:not([type=radio]):not([type=checkbox]), select, textarea")) return;
        if (event.key === "ArrowRight") { event.preventDefault(); this.on(); }
        if (event.key === "ArrowLeft") { event.preventDefault(); this.back(); }
      },
      show(at) {
        this.at = Math.max(0, Math.min(at, this.count - 1));
        this.steps.forEach((step, k) => { step.hidden = k !== this.at; });
        this.$refs.bar.value = this.at + 1;
        history.replaceState(null, "", `#${this.steps[this.at].id}`);
        window.scrollTo(0, 0);
      },
      async on() { await this.keepStep(); this.show(this.at + 1); },
      async back() { await this.keepStep(); this.show(this.at - 1); },
      // A screen that was touched is kept when it is left.
      async keepStep() {
        const form = this.steps[this.at].querySelector("form:not(.photo)");
        if (form.dataset.touched) await this.keepForm(form);
      },
      changed(event) {
        const form = event.target.closest("form");
        form.dataset.touched = "yes";
        const program = event.target.closest("[data-program]");
        if (program) this.differ(program);
      },
      // What the box shows and nobody knew, at once.
      differ(program) {
        const line = program.querySelector("[data-differs]");
        if (!line) return;
        const said = [];
        program.querySelectorAll("[data-known]").forEach((field) => {
          const value = field.value.trim().replace(/%$/, "").trim();
          if (value && value !== field.dataset.known) said.push(`differs: known was ${field.dataset.known || "none"}`);
        });
        const on = program.querySelector(`input[name="${line.dataset.differs}_on"]:checked`);
        if (on && on.value !== line.dataset.on) said.push(`known was ${line.dataset.on === "yes" ? "on" : "off"}`);
        line.textContent = said.join("; ");
      },
      async save(event) {
        event.preventDefault();
        const form = event.target;
        if (form.classList.contains("photo")) { await this.photo(form.querySelector("input[type=file]")); return; }
        if (await this.keepForm(form) && this.at + 1 < this.count) this.show(this.at + 1);
      },
      async keepForm(form) {
        const fields = [...new FormData(form)].filter(([name]) => name !== "csrf" && name !== "next");
        const entry = { key: newKey(), url: form.action, user: this.$root.dataset.user, at: new Date().toISOString(), fields };
        await keep(entry);
        delete form.dataset.touched;
        const answer = await this.trySend(entry);
        const line = form.querySelector(".errors-live");
        if (answer && answer.kept === false) {
          // It was wrong: it is here to be corrected, not in the box of what waits.
          await drop(entry.key);
          form.dataset.touched = "yes";
          const said = [answer.text, ...answer.more].join(" ");
          if (line) line.textContent = said; else this.trouble = said;
          await this.tell();
          return false;
        }
        if (line) line.textContent = "";
        const head = form.querySelector("h2");
        if (head && !head.querySelector(".tag")) { const tag = document.createElement("span"); tag.className = "tag"; tag.textContent = answer ? "entered" : "kept here"; head.append(" ", tag); }
        const differs = form.querySelector("[data-differs]");
        if (answer && answer.more && answer.more.length && differs) differs.textContent = answer.more.join(" ");
        await this.tell();
        return true;
      },
      async photo(input) {
        const file = input.files[0];
        if (!file) return;
        const form = input.form;
        const line = form.querySelector("[role=status]");
        if (file.size > 60 * 1024 * 1024) { line.textContent = "The photograph is larger than 60 MB."; return; }
        const fields = [...new FormData(form)].filter(([name, value]) => name !== "csrf" && name !== "key" && typeof value === "string");
        const entry = { key: newKey(), url: form.action, user: this.$root.dataset.user, at: new Date().toISOString(), fields, blob: file, file: file.name };
        await keep(entry);
        line.textContent = "Sending the photograph.";
        const answer = await this.trySend(entry);
        if (answer && answer.kept === false) await drop(entry.key);
        line.textContent = answer ? answer.text : "Kept on this phone, sent when the network is back.";
        input.value = "";
        await this.tell();
      },
      // One after the other, the oldest first; what the server has is dropped here.
      async trySend(entry) {
        const answer = await send(entry, this.$root.dataset.csrf);
        if (!answer || answer.again) {
          if (answer && (answer.status === 401 || answer.status === 403 || answer.status === 0)) this.trouble = "sign in again on this phone to send it";
          return null;
        }
        if (answer.kept) { await drop(entry.key); this.trouble = ""; }
        return answer;
      },
      async flush() {
        if (this.sending) return;
        this.sending = true;
        try {
          const mine = (await kept()).filter((entry) => entry.user === this.$root.dataset.user).sort((a, b) => a.at.localeCompare(b.at));
          for (const entry of mine) {
            const answer = await this.trySend(entry);
            if (!answer) break;
            if (answer.kept === false) { this.trouble = `one entry was refused: ${[answer.text, ...(answer.more || [])].join(" ")}`; break; }
          }
        } finally { this.sending = false; await this.tell(); }
      },
      async tell() {
        const all = await kept();
        this.left = all.filter((entry) => entry.user === this.$root.dataset.user).length;
        this.others = all.length - this.left;
      },
    }));
  });
})();
