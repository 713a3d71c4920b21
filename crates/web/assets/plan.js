// The plan of a site: pulling a thing changes its line, and the server draws what the lines say. Without a pointer the
// arrow keys move, with Shift they make larger or turn; Delete takes off; every step can be undone.
document.addEventListener("alpine:init", () => {
  // Where the words of a line stand, by kind.
  const WORDS = {
    zone: { at: [2, 3], size: [4, 5], labels: ["", "station", "east", "south", "width", "depth"] },
    obstacle: { at: [1, 2], size: [3, 4], labels: ["", "east", "south", "width", "depth", "height", "name"] },
    head: { at: [1, 2], labels: ["", "east", "south", "throw", "from, degrees", "to, degrees"] },
    controller: { at: [2, 3], labels: ["", "controller", "east", "south"] },
    sensor: { at: [1, 2], labels: ["", "east", "south", "name"] },
    north: { labels: ["", "degrees"] },
  };
  const NAMED = { obstacle: 6, sensor: 3 };

  Alpine.data("plan", () => ({
    chosen: -1,
    past: [],
    asked: 0,
    get area() { return this.$root.querySelector("[name=lines]"); },
    get svg() { return this.$root.querySelector("svg.siteplan"); },
    init() {
      if (!this.area) return;
      this.$root.addEventListener("pointerdown", (event) => this.grab(event));
      this.$root.addEventListener("keydown", (event) => this.key(event));
      this.$root.addEventListener("focusin", (event) => { const thing = event.target.closest(".thing"); if (thing) this.choose(Number(thing.dataset.line)); });
      this.$root.addEventListener("click", (event) => this.clicked(event));
      this.$root.addEventListener("change", (event) => this.changed(event));
      this.$root.addEventListener("input", (event) => { if (event.target.name === "hour") this.look(); });
    },
    lines() { return this.area.value.split("\n").map((line) => line.trim()).filter(Boolean); },
    words(line) {
      const all = line.split(/\s+/);
      const named = NAMED[all[0]];
      return named && all.length > named ? [...all.slice(0, named), all.slice(named).join(" ")] : all;
    },
    round(v) { return Math.round(v * 100) / 100; },
    // The step of a key, and the grid of a pull, in the unit of the lines.
    step() { return 0.5; },
    write(lines) { this.past.push(this.area.value); this.area.value = lines.join("\n"); const undo = this.$root.querySelector("[data-undo]"); if (undo) undo.disabled = false; return this.look(); },
    change(at, make) { const lines = this.lines(); const words = this.words(lines[at]); make(words); lines[at] = words.join(" "); return this.write(lines); },
    async look() {
      const mine = ++this.asked;
      const hour = this.$root.querySelector("[name=hour]");
      const body = new URLSearchParams(new FormData(this.$root.querySelector("form")));
      const none = Number(hour.value) <= 3;
      if (none) body.delete("hour");
      this.$root.querySelector("#plan-hour").textContent = none ? "no shade" : `${Math.floor(hour.value)}${hour.value % 1 ? ":30" : ":00"}`;
      const answer = await fetch(this.$root.dataset.look, { method: "POST", body });
      if (mine !== this.asked || !answer.ok) return;
      const { picture, seen, lines, errors } = await answer.json();
      const list = this.$root.querySelector("#plan-errors");
      list.hidden = errors.length === 0;
      list.replaceChildren(...errors.map((text) => { const li = document.createElement("li"); li.textContent = text; return li; }));
      if (errors.length) return;
      const focused = document.activeElement && document.activeElement.closest && document.activeElement.closest(".thing");
      // The drawing counts lines in the order in which the server writes them.
      if (lines && this.lines().join("\n") !== lines) { const before = this.lines()[this.chosen]; this.area.value = lines; if (before !== undefined) { const again = this.lines().findIndex((line) => this.words(line)[0] === this.words(before)[0]); if (this.lines()[this.chosen] === undefined) this.chosen = again; } }
      this.$root.querySelector("#plan-picture").innerHTML = picture;
      this.$root.querySelector("#plan-seen").innerHTML = seen;
      this.mark();
      if (focused && this.chosen >= 0) { const thing = this.thing(this.chosen); if (thing) thing.focus(); }
    },
    thing(line) { return this.$root.querySelector(`.thing[data-line="${line}"]`); },
    mark() { this.$root.querySelectorAll(".thing").forEach((thing) => thing.classList.toggle("is-chosen", Number(thing.dataset.line) === this.chosen)); this.panel(); },
    choose(line) { if (line === this.chosen) return; this.chosen = line; this.mark(); },
    // Every figure of what is chosen can be typed.
    panel() {
      const box = this.$root.querySelector(".chosen");
      if (!box) return;
      const line = this.lines()[this.chosen];
      box.hidden = line === undefined;
      if (line === undefined) return;
      const words = this.words(line);
      if (box.contains(document.activeElement) && document.activeElement.tagName === "INPUT") return;
      box.querySelector("legend").textContent = words[0];
      box.querySelector(".fields").replaceChildren(...WORDS[words[0]].labels.slice(1).map((label, i) => {
        const wrap = document.createElement("label");
        const input = document.createElement("input");
        input.className = "input is-small"; input.value = words[i + 1] || ""; input.dataset.word = i + 1; input.autocomplete = "off";
        if (words[0] === "sensor" && label === "name") input.readOnly = true;
        wrap.append(`${label} `, input);
        return wrap;
      }));
    },
    changed(event) {
      const at = event.target;
      if (at.dataset.word) this.change(this.chosen, (words) => { words[Number(at.dataset.word)] = at.value.trim(); });
      else if (at.name === "lines") { this.past.push(at.defaultValue); this.look(); }
      else if (at.name === "month") this.look();
    },
    clicked(event) {
      const add = event.target.closest("[data-add]");
      if (add) return this.add(add);
      if (event.target.closest("[data-undo]")) {
        const before = this.past.pop();
        if (before !== undefined) { this.area.value = before; event.target.closest("[data-undo]").disabled = this.past.length === 0; this.look(); }
      }
      if (event.target.closest("[data-remove]")) this.remove();
    },
    remove() { const lines = this.lines(); lines.splice(this.chosen, 1); this.chosen = -1; this.write(lines); },
    async add(button) {
      const svg = this.svg, kind = button.dataset.add;
      const box = svg.viewBox.baseVal, scale = Number(svg.dataset.scale) * this.metres();
      const middle = [Number(svg.dataset.x) / this.metres() + box.width / scale / 2, Number(svg.dataset.y) / this.metres() + box.height / scale / 2].map((v) => this.round(v));
      const lines = this.lines();
      const taken = lines.filter((l) => l.startsWith(`${kind} `)).map((l) => Number(this.words(l)[1]));
      let free = 1;
      while (taken.includes(free)) free += 1;
      const side = Math.max(1, Math.round(box.width / scale / 8));
      const [x, y] = middle;
      const line = { zone: `zone ${free} ${x} ${y} ${side} ${side}`, obstacle: `obstacle ${x} ${y} ${side} 1 2 wall`, head: `head ${x} ${y} ${side} 0 90`, controller: `controller ${free} ${x} ${y}`, sensor: `sensor ${x} ${y} ${button.dataset.name}` }[kind];
      if (kind === "sensor") button.remove();
      await this.write([...lines, line]);
      const again = this.lines();
      const at = again.findIndex((l) => l === line || (this.words(l)[0] === kind && lines.indexOf(l) < 0));
      this.chosen = at;
      this.mark();
      const thing = this.thing(at);
      if (thing) thing.focus();
    },
    // Metres of one unit of the lines.
    metres() { return this.$root.querySelector("label[for=lines]").textContent.includes(" ft ") ? 0.3048 : 1; },
    move(words, by) { const at = WORDS[words[0]].at; at.forEach((word, i) => { words[word] = String(this.round(parseFloat(words[word]) + by[i])); }); },
    key(event) {
      const thing = event.target.closest(".thing");
      if (!thing) return;
      if (event.key === "Delete" || event.key === "Backspace") { event.preventDefault(); this.remove(); return; }
      if ((event.ctrlKey || event.metaKey) && event.key === "z") { event.preventDefault(); this.$root.querySelector("[data-undo]").click(); return; }
      const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
      if (!step) return;
      event.preventDefault();
      event.stopPropagation();
      this.chosen = Number(thing.dataset.line);
      this.change(this.chosen, (words) => {
        const kind = WORDS[words[0]], by = step.map((s) => s * this.step());
        if (!event.shiftKey) this.move(words, by);
        else if (words[0] === "head") {
          words[3] = String(Math.max(0.5, this.round(parseFloat(words[3]) - by[1])));
          [4, 5].forEach((word) => { words[word] = String((((Number(words[word]) + step[0] * 15) % 360) + 360) % 360); });
        } else if (kind.size) kind.size.forEach((word, i) => { words[word] = String(Math.max(0.5, this.round(parseFloat(words[word]) + by[i]))); });
      });
    },
    grab(event) {
      const thing = event.target.closest(".thing");
      if (!thing || event.button !== 0 || !this.svg.classList.contains("is-editable")) return;
      event.preventDefault();
      const handle = event.target.dataset.handle;
      const line = Number(thing.dataset.line), svg = this.svg;
      this.choose(line);
      thing.focus({ preventScroll: true });
      const held = handle ? event.target : thing;
      const perPixel = svg.viewBox.baseVal.width / svg.getBoundingClientRect().width;
      const perUnit = Number(svg.dataset.scale) * this.metres();
      const from = [event.clientX, event.clientY];
      const by = (moved) => [(moved.clientX - from[0]) * perPixel, (moved.clientY - from[1]) * perPixel];
      const pull = (moved) => { const [x, y] = by(moved); held.setAttribute("transform", `translate(${x} ${y})`); };
      const drop = (dropped) => {
        document.removeEventListener("pointermove", pull);
        document.removeEventListener("pointerup", drop);
        const grid = (v) => Math.round((v / perUnit) * 10) / 10;
        const [x, y] = by(dropped).map(grid);
        if (x === 0 && y === 0) { held.removeAttribute("transform"); return; }
        this.change(line, (words) => {
          if (!handle) this.move(words, [x, y]);
          else if (handle === "size") WORDS[words[0]].size.forEach((word, i) => { words[word] = String(Math.max(0.1, this.round(parseFloat(words[word]) + [x, y][i]))); });
          else {
            const [cx, cy] = [Number(held.getAttribute("cx")) + x * perUnit, Number(held.getAttribute("cy")) + y * perUnit];
            const spot = thing.querySelector(".headspot");
            const [dx, dy] = [cx - Number(spot.getAttribute("cx")), cy - Number(spot.getAttribute("cy"))];
            if (handle === "throw") words[3] = String(Math.max(0.1, this.round(Math.hypot(dx, dy) / perUnit)));
            else words[handle === "from" ? 4 : 5] = String((((Math.round((Math.atan2(dx, -dy) * 180) / Math.PI - Number(svg.dataset.north)) % 360) + 360) % 360));
          }
        });
      };
      document.addEventListener("pointermove", pull);
      document.addEventListener("pointerup", drop);
    },
  }));
});
