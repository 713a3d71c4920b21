// Small behaviours over pages that work without them. Alpine's CSP build runs no inline code, so
// every behaviour is a named component here.
document.addEventListener("alpine:init", () => {
  const go = (selector) => { const link = document.querySelector(selector); if (link) link.click(); };

  Alpine.data("almanac", () => ({
    init() {
      const saved = localStorage.getItem("theme");
      if (saved) document.documentElement.dataset.theme = saved;
      document.addEventListener("keydown", (event) => this.key(event));
      document.querySelectorAll("[data-weeks]").forEach((ribbon) => ribbon.addEventListener("keydown", (event) => this.week(event)));
    },
    key(event) {
      const at = event.target;
      if (event.ctrlKey || event.metaKey || event.altKey) return;
      if (at.matches("input, select, textarea") || document.querySelector("dialog[open]")) return;
      if (/^[1-8]$/.test(event.key)) go(`[data-key="${event.key}"]`);
      else if (event.key === "[") go("[data-week='previous']");
      else if (event.key === "]") go("[data-week='next']");
      else if (event.key === "?") this.keys();
      else if (event.key === "/") { const find = document.getElementById("find"); if (find && find.offsetParent) { find.focus(); event.preventDefault(); } }
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
    print() { window.print(); },
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
        document.getElementById("time_zone").value = Intl.DateTimeFormat().resolvedOptions().timeZone;
      }, () => { document.getElementById("latitude-help").textContent = "This device does not tell its position; read it from a map."; });
    },
  }));

  Alpine.data("finder", () => ({
    query: "",
    all: null,
    async load() { if (!this.all) this.all = await (await fetch("/find.json")).json(); },
    get hits() {
      const words = this.query.toLowerCase().split(/\s+/).filter(Boolean);
      if (!this.all || !words.length) return [];
      return this.all.filter((hit) => words.every((word) => hit.name.toLowerCase().includes(word))).slice(0, 12);
    },
    clear() { this.query = ""; this.$refs.box.blur(); },
    leave(event) { if (!this.$root.contains(event.relatedTarget)) this.query = ""; },
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
      this.trouble = file && file.size > 16 * 1024 * 1024 ? `${file.name} is larger than 16 MB. Send days, not minutes, or split it.` : "";
      if (this.trouble) this.$refs.file.value = "";
    },
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
});
