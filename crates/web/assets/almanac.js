// Small behaviours over pages that work without them. Alpine's CSP build runs no inline code, so
// every behaviour is a named component here.
document.addEventListener("alpine:init", () => {
  const go = (selector) => { const link = document.querySelector(selector); if (link) link.click(); };

  Alpine.data("almanac", () => ({
    // Single keys get in the way of speech input, so that they can be switched off (WCAG 2.1.4).
    keysOff: localStorage.getItem("keys") === "off",
    get keysWords() { return this.keysOff ? "Switch single keys on" : "Switch single keys off"; },
    switchKeys() {
      this.keysOff = !this.keysOff;
      localStorage.setItem("keys", this.keysOff ? "off" : "on");
    },
    init() {
      const saved = localStorage.getItem("theme");
      if (saved) document.documentElement.dataset.theme = saved;
      document.addEventListener("keydown", (event) => this.key(event));
      // Whoever signs out leaves no pages of theirs on the device.
      document.querySelectorAll("form[action='/sign-out']").forEach((form) => form.addEventListener("submit", () => { if (window.caches) caches.delete("upland-kept"); }));
      document.querySelectorAll("[data-weeks]").forEach((ribbon) => ribbon.addEventListener("keydown", (event) => this.week(event)));
      document.querySelectorAll("[data-swipe]").forEach((part) => this.swipes(part, go));
      // On a narrow screen the tab that one is at may lie beyond the edge.
      document.querySelectorAll(".tabs [aria-current], .chapters [aria-current]").forEach((tab) => {
        const row = tab.closest(".tabs, .chapters ol");
        row.scrollLeft += tab.getBoundingClientRect().right - row.getBoundingClientRect().right + tab.offsetWidth / 2;
      });
    },
    key(event) {
      const at = event.target;
      if (this.keysOff || event.ctrlKey || event.metaKey || event.altKey) return;
      if (at.matches("input, select, textarea") || document.querySelector("dialog[open]")) return;
      if (/^[0-9]$/.test(event.key)) go(`[data-key="${event.key}"]`);
      else if (event.key === "[") go("[data-week='previous']");
      else if (event.key === "]") go("[data-week='next']");
      else if (/^Arrow(Left|Right)$/.test(event.key) && !at.closest("[tabindex], nav, dialog")) go(`[data-turn='${event.key === "ArrowLeft" ? "previous" : "next"}']`);
      else if (event.key === "?") this.keys();
      else if (event.key === "/") { const find = document.getElementById("find"); if (find && find.offsetParent) { find.focus(); event.preventDefault(); } }
    },
    // A finger that goes far to one side, and not where something scrolls that way itself.
    swipes(part, go) {
      let from = null;
      part.addEventListener("touchstart", (event) => {
        const scrolls = event.target.closest(".scroll, figure, .tabs, input, select, textarea");
        from = scrolls || event.touches.length > 1 ? null : event.touches[0];
      }, { passive: true });
      part.addEventListener("touchend", (event) => {
        if (!from) return;
        const to = event.changedTouches[0], far = to.clientX - from.clientX;
        if (Math.abs(far) > 80 && Math.abs(far) > 2 * Math.abs(to.clientY - from.clientY)) go(`[data-turn='${far > 0 ? "previous" : "next"}']`);
        from = null;
      }, { passive: true });
    },
    week(event) {
      const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
      if (!step) return;
      const links = [...event.currentTarget.querySelectorAll("a")];
      const next = links[links.indexOf(document.activeElement) + step];
      if (next) { next.focus(); event.preventDefault(); }
    },
    keys() { this.$refs.keys.showModal(); },
    theme() {
      const dark = getComputedStyle(document.documentElement).colorScheme === "dark";
      document.documentElement.dataset.theme = dark ? "light" : "dark";
      localStorage.setItem("theme", document.documentElement.dataset.theme);
    },
    print(event) {
      // What was printed stands in the logbook; a page without a network prints as well.
      const { printed, what } = event.currentTarget.dataset;
      const token = document.querySelector("input[name=csrf]");
      if (printed && token) fetch(printed, { method: "POST", body: new URLSearchParams({ csrf: token.value, what }) }).catch(() => {});
      window.print();
    },
    // The default that a field takes follows the plants and heads chosen.
    chosen(event) {
      const island = document.getElementById("survey-defaults");
      if (!island) return;
      const row = (JSON.parse(island.textContent)[event.target.name] || {})[event.target.value];
      for (const [name, value] of Object.entries(row || {})) {
        const field = document.getElementById(name);
        if (field) field.placeholder = value;
        const words = document.querySelector(`[data-default-for="${name}"] span`);
        if (words) words.textContent = value;
      }
    },
    locate() {
      navigator.geolocation.getCurrentPosition((where) => {
        document.getElementById("latitude").value = where.coords.latitude.toFixed(4);
        document.getElementById("longitude").value = where.coords.longitude.toFixed(4);
        const metric = document.querySelector("[name=units]").value === "metric";
        const height = where.coords.altitude;
        if (height !== null) document.getElementById("elevation").value = Math.round(metric ? height : height / 0.3048);
        document.getElementById("longitude").dispatchEvent(new Event("change", { bubbles: true }));
      }, () => { document.getElementById("latitude-help").textContent = "This device does not tell its position; read it from a map."; });
    },
  }));

  Alpine.data("finder", () => ({
    query: "",
    hits: [],
    asked: 0,
    async ask() {
      const mine = ++this.asked;
      const words = this.query.trim();
      const found = words ? await (await fetch(`/find.json?words=${encodeURIComponent(words)}`)).json() : [];
      // A later letter has been asked already.
      if (mine === this.asked) this.hits = found;
    },
    get open() { return { "is-active": this.hits.length > 0 }; },
    none() { this.query = ""; this.hits = []; ++this.asked; },
    clear() { this.none(); this.$refs.box.blur(); },
    leave(event) { if (!this.$root.contains(event.relatedTarget)) this.none(); },
    down() {
      const links = [...this.$refs.list.querySelectorAll("a")];
      const next = links[links.indexOf(document.activeElement) + 1];
      if (next) next.focus();
    },
  }));

  Alpine.data("dropper", () => ({
    trouble: "",
    over() { this.$refs.zone.classList.add("over"); },
    out() { this.$refs.zone.classList.remove("over"); },
    dropped(event) {
      this.out();
      if (event.dataTransfer.files.length === 1) { this.$refs.file.files = event.dataTransfer.files; this.picked(); }
      else this.trouble = "Drop one file at a time.";
    },
    // The server refuses it as well; this saves the wait.
    picked() {
      const file = this.$refs.file.files[0];
      const most = Number(this.$root.dataset.mostMb);
      this.trouble = file && file.size > most * 1024 * 1024 ? `${file.name} is larger than ${most} MB. Send hours, not minutes, or split it.` : "";
      if (this.trouble) this.$refs.file.value = "";
    },
  }));

  // Which weather a trial asks for: the fields of the other kinds are hidden.
  Alpine.data("trialWeather", () => ({
    weather: "days",
    init() { this.chosen(); },
    chosen() { this.weather = this.$root.querySelector("select").value; },
  }));

  Alpine.data("progress", () => ({
    done: 0,
    init() { this.poll(); },
    async poll() {
      const state = await (await fetch(this.$root.dataset.url)).json();
      this.done = state.done;
      this.$refs.bar.value = state.done;
      if (state.running) setTimeout(() => this.poll(), 250); else location.reload();
    },
  }));

  // The settings of a box: every edit is computed on the server at once, and what follows from it
  // is drawn anew. Bars are dragged or moved with the arrow keys by changing the form's own lines.
  Alpine.data("editor", () => ({
    waiting: null,
    asked: 0,
    past: [],
    get form() { return this.$root.querySelector("form"); },
    init() {
      this.$root.addEventListener("input", (event) => this.changed(event));
      this.$root.addEventListener("click", (event) => this.clicked(event));
      this.$root.addEventListener("keydown", (event) => this.key(event));
      this.$root.addEventListener("pointerdown", (event) => this.grab(event));
      this.$root.addEventListener("paste", (event) => this.pasted(event));
      this.$root.addEventListener("submit", () => clearTimeout(this.waiting));
      this.$root.querySelectorAll("[data-noscript]").forEach((button) => { button.hidden = true; });
    },
    changed(event) {
      if (event.target.name === "line") return;
      const cell = event.target.closest("td.days");
      if (cell && event.target.tagName === "SELECT") cell.dataset.mode = event.target.value;
      this.form.querySelector(".savebar").classList.add("is-changed");
      clearTimeout(this.waiting);
      this.waiting = setTimeout(() => this.draft("live"), 10);
    },
    async draft(part, extra) {
      const mine = ++this.asked;
      const body = new URLSearchParams(new FormData(this.form));
      for (const [name, value] of Object.entries(extra || {})) body.set(name, value);
      const answer = await fetch(this.form.dataset.draft, { method: "POST", body, headers: { "x-part": part } });
      // A later edit has been sent already; its answer is the one that counts.
      if (mine !== this.asked) return;
      if (!answer.ok) { document.open(); document.write(await answer.text()); document.close(); return; }
      if (part === "live") this.parts(await answer.json());
      else { this.$root.innerHTML = await answer.text(); this.after(); }
    },
    parts(all) { for (const [id, html] of Object.entries(all)) this.form.querySelector(`#${id}`).innerHTML = html; },
    after() {
      this.$root.querySelectorAll("[data-noscript]").forEach((button) => { button.hidden = true; });
      const undo = this.$root.querySelector("[data-undo]");
      if (undo) undo.hidden = this.past.length === 0;
    },
    remember() { this.past.push(new URLSearchParams(new FormData(this.form)).toString()); },
    async clicked(event) {
      const more = event.target.closest("button[name=add], button[name=then]");
      if (more) {
        event.preventDefault();
        await this.with({ [more.name]: more.value });
        return;
      }
      const mend = event.target.closest("button[name=mend]");
      if (mend) {
        event.preventDefault();
        this.remember();
        await this.draft("editor", { mend: mend.value });
        return;
      }
      if (event.target.closest("[data-undo]")) {
        const before = this.past.pop();
        if (!before) return;
        const answer = await fetch(this.form.dataset.draft, { method: "POST", body: new URLSearchParams(before), headers: { "x-part": "editor" } });
        this.$root.innerHTML = await answer.text();
        this.after();
        return;
      }
      const night = event.target.closest("[data-night]");
      if (night) {
        event.preventDefault();
        this.form.elements.night.value = night.dataset.night;
        await this.draft("live");
        return;
      }
      const zoom = event.target.closest("[data-zoom]");
      if (zoom) {
        event.preventDefault();
        this.form.elements.zoom.value = zoom.dataset.zoom;
        await this.draft("live");
      }
    },
    // Something is added on the server, and what is there then is drawn anew.
    async with(extra) {
      this.remember();
      await this.draft("editor", extra);
      const first = extra.add && this.$root.querySelector(extra.add.startsWith("p") ? `[name="${extra.add}-starts"]` : `[name$="-m${extra.add.split(" ")[0].slice(1)}"]`);
      (first || this.$root.querySelector("#line")).focus();
    },
    // Enter goes down the column, then to the top of the next one; in the line it fills the line in.
    async enter(event) {
      const at = event.target;
      if (at.name === "line") { event.preventDefault(); await this.with({ then: "line" }); return; }
      if (at.name === "reason" || !at.closest(".settings")) return;
      event.preventDefault();
      if (!at.matches(".minutes[data-row]")) { const all = [...this.$root.querySelectorAll(".settings input:not([type=hidden])")]; const next = all[all.indexOf(at) + 1]; if (next) next.focus(); return; }
      const program = at.name.split("-")[0];
      const column = this.column(program);
      const next = column[column.indexOf(at) + (event.shiftKey ? -1 : 1)];
      if (next) { next.focus(); next.select(); } else if (!event.shiftKey) this.$root.querySelector("#reason").focus();
    },
    column(program) { return [...this.$root.querySelectorAll(`input[name^="${program}-m"]`)]; },
    // A column or a row of a sheet goes in from the cell that it is pasted into.
    async pasted(event) {
      const at = event.target;
      if (!at.matches || !at.matches(".minutes[data-row]")) return;
      const text = event.clipboardData.getData("text").replace(/\r/g, "").replace(/\n$/, "");
      if (!/[\n\t]/.test(text)) return;
      event.preventDefault();
      this.remember();
      const lines = text.split("\n").map((line) => line.split("\t"));
      const [program, station] = at.name.split("-m");
      const missing = lines.length - (this.column(program).length - this.column(program).indexOf(at));
      if (missing > 0) {
        const last = Number(this.column(program).at(-1).name.split("-m")[1]);
        await this.draft("editor", { add: Array.from({ length: missing }, (_, i) => `s${last + 1 + i}`).join(" ") });
      }
      const rows = [...this.$root.querySelectorAll("table.matrix tbody tr")];
      const cells = (row) => [...row.querySelectorAll(".minutes[data-row]")];
      const top = rows.findIndex((row) => row.querySelector(`[name="${program}-m${station}"]`));
      const left = cells(rows[top]).findIndex((cell) => cell.name === `${program}-m${station}`);
      lines.forEach((line, down) => line.forEach((value, right) => {
        const cell = rows[top + down] && cells(rows[top + down])[left + right];
        if (cell) cell.value = value.trim();
      }));
      this.form.querySelector(".savebar").classList.add("is-changed");
      await this.draft("live");
    },
    line(name) { return this.form.elements[name]; },
    minutesOf(text) { const [, h, m, half] = text.trim().match(/^(\d{1,2})[:.]?(\d{2})?\s*([ap])?/i) || [0, 0, 0]; return (half ? (Number(h) % 12) + (/p/i.test(half) ? 12 : 0) : Number(h)) * 60 + Number(m || 0); },
    clockOf(minute) {
      const m = ((minute % 1440) + 1440) % 1440, h = Math.floor(m / 60), rest = String(m % 60).padStart(2, "0");
      return document.body.dataset.hours === "12" ? `${h % 12 || 12}:${rest} ${h < 12 ? "AM" : "PM"}` : `${String(h).padStart(2, "0")}:${rest}`;
    },
    moveStart(pass, minutes) {
      const line = this.line(`p${pass.dataset.program}-starts`);
      if (!line || minutes === 0) return false;
      const times = line.value.split(/[,;]+|\s+(?=\d)/).map((t) => t.trim()).filter(Boolean);
      const step = Number(pass.ownerSVGElement.dataset.step);
      // The line counts, not the drawing: a step before may still be on its way. Drawn starts are
      // numbered by the clock, the line may hold them in any order.
      const drawn = times.findIndex((time) => this.minutesOf(time) === this.minutesOf(pass.dataset.set));
      const byClock = times.map((time, index) => [this.minutesOf(time), index]).sort((a, b) => a[0] - b[0]);
      const at = drawn >= 0 ? drawn : (byClock[Number(pass.dataset.start)] || [0, 0])[1];
      const moved = this.minutesOf(times[at]) + minutes;
      times[at] = this.clockOf(Math.round(moved / step) * step);
      line.value = times.join(", ");
      return true;
    },
    // The run drawn is one of the cycles of a run time at a percentage; its edge changes the run time.
    stretch(bar, seconds) {
      const line = this.line(`p${bar.dataset.program}-m${bar.dataset.station}`);
      if (!line || seconds === 0) return false;
      const step = Number(bar.ownerSVGElement.dataset.step);
      const percent = Math.max(1, Number(bar.dataset.percent));
      const whole = Number(bar.dataset.base) + seconds * Number(bar.dataset.cycles) * 100 / percent;
      const settable = Math.max(step, Math.round(whole / step) * step);
      line.value = settable % 60 ? `${Math.floor(settable / 60)}m${String(settable % 60).padStart(2, "0")}` : String(settable / 60);
      return true;
    },
    async refocus(selector) {
      this.form.querySelector(".savebar").classList.add("is-changed");
      await this.draft("live");
      const again = this.form.querySelector(selector);
      if (again) again.focus();
    },
    key(event) {
      if (event.key === "Enter" && event.target.tagName === "INPUT") { this.enter(event); return; }
      const steps = { ArrowLeft: -1, ArrowRight: 1 }[event.key] * (event.shiftKey ? 15 : 1);
      if (!steps) return;
      const pass = event.target.closest(".pass[data-start]");
      const bar = event.target.closest(".bar[data-station]");
      if (!pass && !bar) return;
      event.preventDefault();
      event.stopPropagation();
      this.remember();
      if (pass) {
        const step = Number(pass.ownerSVGElement.dataset.step);
        if (this.moveStart(pass, steps * step)) this.refocus(`.pass[data-program="${pass.dataset.program}"][data-start="${pass.dataset.start}"]`);
      } else {
        const step = Number(bar.ownerSVGElement.dataset.step);
        if (this.stretch(bar, steps * step / Number(bar.dataset.cycles))) this.refocus(`.bar[data-program="${bar.dataset.program}"][data-station="${bar.dataset.station}"]`);
      }
    },
    grab(event) {
      const edge = event.target.closest(".edge");
      const pass = event.target.closest(".pass[data-start]");
      const held = edge ? edge.closest(".bar") : pass;
      if (!held || event.button !== 0) return;
      event.preventDefault();
      const svg = held.ownerSVGElement;
      const perPixel = Number(svg.dataset.span) / svg.getBoundingClientRect().width;
      const from = event.clientX;
      const all = pass ? [...svg.querySelectorAll(`.pass[data-program="${held.dataset.program}"][data-start="${held.dataset.start}"]`)] : [held];
      const move = (moved) => {
        const pixels = moved.clientX - from;
        if (pass) all.forEach((one) => { one.classList.add("is-moved"); one.setAttribute("transform", `translate(${pixels} 0)`); });
        else edge.setAttribute("transform", `translate(${pixels - 5} 0)`);
      };
      const drop = (dropped) => {
        document.removeEventListener("pointermove", move);
        document.removeEventListener("pointerup", drop);
        const amount = (dropped.clientX - from) * perPixel;
        if (Math.abs(dropped.clientX - from) < 3) { all.forEach((one) => one.removeAttribute("transform")); held.focus(); return; }
        this.remember();
        const done = pass ? this.moveStart(held, amount) : this.stretch(held, amount);
        if (done) this.refocus(pass ? `.pass[data-program="${held.dataset.program}"][data-start="${held.dataset.start}"]` : `.bar[data-program="${held.dataset.program}"][data-station="${held.dataset.station}"]`);
      };
      document.addEventListener("pointermove", move);
      document.addEventListener("pointerup", drop);
    },
  }));

  // Ticks of a list of steps, under the version or day they belong to. They stand on the server for everybody; what this
  // device ticked since the page was made counts here at once, with or without a network.
  Alpine.data("ticks", () => ({
    done: "",
    init() {
      const there = (this.$root.dataset.ticked || "").split(" ").filter(Boolean);
      // A page of the server has every tick that was sent; one that was taken along has what it knew then.
      const kept = document.body.dataset.keptAt;
      const own = this.own();
      this.boxes().forEach((box) => {
        const mine = own[box.dataset.tick];
        // What was ticked just now may still be on its way.
        const fresh = mine && Date.now() - new Date(mine.at) < 30000;
        box.checked = mine && (!this.$root.dataset.steps || fresh || !mine.kept || (kept && mine.at > kept)) ? mine.on : there.includes(box.dataset.tick);
      });
      this.$root.addEventListener("change", (event) => { if (event.target.matches("[data-tick]")) this.keep(event.target); });
      this.count();
      this.overlay();
    },
    // Ticks that wait to be sent, and those of a page that was left before they were kept.
    async overlay() {
      const { steps, key } = this.$root.dataset;
      if (!steps) return;
      for (const [step, mine] of Object.entries(this.own())) if (!mine.kept) this.send(step, mine, "Ticked");
      for (const entry of await window.uplandOutbox.mine().catch(() => [])) {
        const of = Object.fromEntries(entry.fields);
        if (!entry.url.endsWith(steps) || of.list !== key) continue;
        this.boxes().forEach((box) => { if (of.clear || box.dataset.tick === of.step) box.checked = of.on === "yes"; });
      }
      this.count();
    },
    boxes() { return [...this.$root.querySelectorAll("[data-tick]")]; },
    own() {
      const kept = JSON.parse(localStorage.getItem(this.$root.dataset.key) || "{}");
      return Array.isArray(kept) ? {} : kept;
    },
    keep(box) {
      const own = this.own(), mine = { on: box.checked, at: new Date().toISOString() };
      own[box.dataset.tick] = mine;
      this.write(own);
      this.send(box.dataset.tick, mine, `${box.checked ? "Ticked" : "Tick taken back"}: ${window.uplandOutbox.words(box.closest("label"))}`);
      this.count();
    },
    write(own) { localStorage.setItem(this.$root.dataset.key, JSON.stringify(own)); },
    // Sends a tick by way of what waits on this device; from then on it is not this page's any more.
    async send(step, mine, title) {
      const { steps } = this.$root.dataset;
      if (!steps) return;
      const entry = this.entry([["step", step], ["on", mine.on ? "yes" : "no"]], title);
      try { await window.uplandOutbox.put(entry); } catch { return; }
      const own = this.own();
      if (own[step] && own[step].at === mine.at) { own[step].kept = true; this.write(own); }
      await window.uplandOutbox.trySend(entry);
    },
    entry(fields, title) {
      const { steps, key } = this.$root.dataset, box = window.uplandOutbox;
      return {
        key: box.newKey(), url: new URL(steps, location.href).href, user: document.body.dataset.user, at: new Date().toISOString(),
        fields: [["list", key], ...fields], title, page: location.pathname + location.search, site: box.words(document.querySelector(".where")), shown: [],
      };
    },
    count() { const all = this.boxes(); this.done = (this.$root.dataset.count || "%1 of %2 done.").replace("%1", all.filter((box) => box.checked).length).replace("%2", all.length); },
    async clear() {
      const at = new Date().toISOString(), own = {};
      this.boxes().forEach((box) => { box.checked = false; own[box.dataset.tick] = { on: false, at, kept: true }; });
      this.write(own);
      this.count();
      if (!this.$root.dataset.steps) return;
      const entry = this.entry([["clear", "yes"]], "Every tick cleared");
      await window.uplandOutbox.put(entry).catch(() => {});
      await window.uplandOutbox.trySend(entry);
    },
  }));
});
