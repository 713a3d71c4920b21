// Pages that are taken along, and the list of what was entered without a network.
document.addEventListener("alpine:init", () => {
  const worker = async () => {
    await navigator.serviceWorker.register("/visit-worker.js");
    return (await navigator.serviceWorker.ready).active;
  };
  // Keeps addresses for later; `tell` hears how many of them are kept.
  const keep = async (pages, tell) => {
    const active = await worker();
    const line = new MessageChannel();
    const done = new Promise((good) => {
      line.port1.onmessage = ({ data }) => { tell(data); if (data.done) good(data); };
    });
    active.postMessage({ keep: pages }, [line.port2]);
    return done;
  };
  window.uplandKeep = keep;

  Alpine.data("along", () => ({
    said: "", busy: false,
    init() {
      const before = JSON.parse(localStorage.getItem(`along-${this.$root.dataset.sites}`) || "null");
      if (before) this.said = `Taken along at ${before.at}: ${before.kept} pages.`;
    },
    async take() {
      if (!("serviceWorker" in navigator)) { this.said = "This browser keeps no pages. Print the sheets instead."; return; }
      this.busy = true;
      try {
        const pages = new Set([location.pathname + location.search]);
        for (const site of this.$root.dataset.sites.split(" ").filter(Boolean)) {
          const answer = await fetch(`/sites/${site}/along.json`);
          if (answer.ok) (await answer.json()).pages.forEach((page) => pages.add(page));
        }
        const end = await keep([...pages], ({ kept, of }) => { this.said = `${kept} of ${of} pages`; });
        const at = box().when(new Date().toISOString());
        localStorage.setItem(`along-${this.$root.dataset.sites}`, JSON.stringify({ at, kept: end.kept }));
        this.said = end.missed ? `Taken along at ${at}: ${end.kept} pages; ${end.missed} could not be loaded. Press again.` : `Taken along at ${at}: ${end.kept} pages.`;
      } catch { this.said = "Not all pages could be loaded. Press again where there is a network."; }
      this.busy = false;
    },
  }));

  const box = () => window.uplandOutbox;
  const make = (name, text, kind) => { const node = document.createElement(name); if (text) node.textContent = text; if (kind) node.className = kind; return node; };
  Alpine.data("waiting", () => ({
    lead: "", none: true, some: false,
    init() { document.addEventListener("outbox", () => this.draw()); this.draw(); this.taken(); },
    // Sites whose pages are on this device, each with where its work begins.
    async taken() {
      if (!window.caches || !await caches.has("upland-kept")) return;
      const cache = await caches.open("upland-kept");
      for (const request of await cache.keys()) {
        const path = new URL(request.url).pathname;
        if (!/^\/sites\/[0-9]+\/today$/.test(path)) continue;
        const answer = await cache.match(request);
        const page = new DOMParser().parseFromString(await answer.text(), "text/html");
        const item = make("li"), root = path.replace(/today$/, "");
        item.append(make("b", box().words(page.querySelector(".where")) || page.querySelector(".where")?.textContent || path), " ");
        for (const [part, text] of [["today", "Today"], ["card", "Card"], ["visit", "Visit"], ["zones", "Zones"], ["sensors", "Sensors"]]) {
          if (!await cache.match(root + part)) continue;
          const link = make("a", text);
          link.href = root + part;
          item.append(link, " ");
        }
        for (const other of await cache.keys()) {
          const own = new URL(other.url).pathname.match(/^\/sites\/[0-9]+\/controllers\/([0-9]+)\/walk$/);
          if (!own || !other.url.includes(root)) continue;
          const link = make("a", `Program controller ${own[1]}`);
          link.href = own[0];
          item.append(link, " ");
        }
        item.append(make("span", `as of ${box().when(answer.headers.get("x-kept-at"))}`, "small soft"));
        this.$refs.taken.append(item);
        this.some = true;
      }
    },
    async send() { await box().flush(); await this.draw(); },
    async draw() {
      // Nothing is redrawn under somebody's fingers.
      if (this.$refs.list.contains(document.activeElement) && document.activeElement.matches("input, select, textarea")) return;
      const all = await box().all(), own = all.filter((entry) => entry.user === document.body.dataset.user);
      const others = all.length - own.length, refused = own.filter((entry) => entry.refused).length;
      this.none = own.length === 0;
      const said = [own.length === 0 ? "Everything you entered on this device is sent." : `${own.length} ${own.length === 1 ? "entry" : "entries"} of yours ${own.length === 1 ? "waits" : "wait"} on this device.`];
      if (refused) said.push(`${refused} ${refused === 1 ? "was" : "were"} refused: correct or discard ${refused === 1 ? "it" : "them"}.`);
      if (box().signedOut()) said.push("Sign in again to send.");
      if (others) said.push(`${others} of somebody else ${others === 1 ? "waits" : "wait"} until they sign in.`);
      this.lead = said.join(" ");
      this.$refs.list.replaceChildren(...own.map((entry) => this.line(entry)));
    },
    line(entry) {
      const item = make("li", "", entry.refused ? "is-refused" : "");
      const head = make("h2", entry.title || "Entry");
      const where = make("p", "", "small soft");
      const page = make("a", entry.site || entry.page || "its page");
      page.href = entry.page || "/";
      where.append(page, `, entered ${box().when(entry.at)}`);
      item.append(head, where);
      if (entry.refused) { const why = make("p", entry.refused, "help is-danger"); why.setAttribute("role", "alert"); item.append(why); }
      const form = make("div", "", "waitfields");
      for (const field of entry.shown || []) {
        const value = (entry.fields.find(([name]) => name === field.name) || [])[1];
        // What was not said and is not wrong needs no line.
        if (!value && !entry.refused) continue;
        form.append(this.field(entry, field, value || ""));
      }
      if (entry.blob) form.append(make("p", `Photograph ${entry.file}, ${Math.round(entry.blob.size / 1024)} kB`));
      const act = make("p", "", "actions");
      const again = make("button", entry.refused ? "Send the corrected entry" : "Send", "button");
      again.type = "button";
      again.addEventListener("click", async () => { if (entry.refused) await this.anew(entry); await box().trySend(entry); await this.draw(); });
      const away = make("button", "Discard", "button is-ghost");
      away.type = "button";
      away.addEventListener("click", () => this.discard(entry, item));
      act.append(again, away);
      item.append(form, act);
      return item;
    },
    // What was corrected is another entry: the one before may have been applied although its answer was lost.
    async anew(entry) {
      const { key } = entry;
      entry.key = box().newKey();
      entry.refused = "";
      await box().put(entry);
      await box().drop(key);
      return entry.key;
    },
    field(entry, field, value) {
      const label = make("label", "", "field");
      label.append(field.label, " ");
      let input;
      if (field.kind === "choice") {
        input = make("select");
        for (const [code, text] of field.options) { const option = make("option", text); option.value = code; option.selected = code === value; input.append(option); }
      } else if (field.kind === "tick") { input = make("input"); input.type = "checkbox"; input.checked = Boolean(value); }
      else { input = make(field.kind === "lines" ? "textarea" : "input", "", "input"); input.value = value; }
      input.addEventListener("change", async () => {
        const now = field.kind === "tick" ? (input.checked ? field.on : "") : input.value;
        entry.fields = entry.fields.filter(([name]) => name !== field.name);
        if (now) entry.fields.push([field.name, now]);
        await this.anew(entry);
      });
      label.append(input);
      return label;
    },
    // One press asks, the second discards: an entry that is gone cannot come back.
    discard(entry, item) {
      const sure = make("button", "Discard it for good", "button is-danger");
      sure.type = "button";
      sure.addEventListener("click", async () => { await box().drop(entry.key); await this.draw(); });
      item.querySelector(".actions").replaceChildren(sure, Object.assign(make("button", "Keep it", "button"), { type: "button", onclick: () => this.draw() }));
      sure.focus();
    },
  }));
});
