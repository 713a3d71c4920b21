// The layout of catch cans: a drawing over the list of lines, which works without it.
document.addEventListener("alpine:init", () => {
  const ns = "http://www.w3.org/2000/svg";
  Alpine.data("cans", () => {
    let list = null;
    let svg = null;
    let most = 0;
    let chosen = -1;
    let dragging = false;
    const cans = () => list.value.split("\n").map((l) => l.trim().split(/[\s;]+/)).filter((p) => p.length >= 2 && p[0] !== "").map(([x, y, ml]) => ({ x: Number(x), y: Number(y), ml: ml === undefined ? "" : ml }));
    const write = (all) => { list.value = all.map((c) => `${c.x} ${c.y}${c.ml === "" ? "" : " " + c.ml}`).join("\n"); draw(); };
    const round = (v) => Math.round(v * 10) / 10;
    // Metres across the drawing: what the cans need, at least ten.
    const span = (all) => Math.max(10, ...all.map((c) => c.x + 1.5), ...all.map((c) => ((c.y + 1.5) * 10) / 7));
    const draw = () => {
      const all = cans().filter((c) => Number.isFinite(c.x) && Number.isFinite(c.y));
      const scale = 100 / span(all);
      svg.replaceChildren();
      const ground = document.createElementNS(ns, "rect");
      ground.setAttribute("class", "even"); ground.setAttribute("width", "100"); ground.setAttribute("height", "70");
      svg.append(ground);
      all.forEach((can, i) => {
        const mark = document.createElementNS(ns, "circle");
        mark.setAttribute("class", "can"); mark.setAttribute("r", i === chosen ? "4" : "3.2"); mark.dataset.at = i;
        if (i === chosen) mark.setAttribute("stroke-width", "1.4");
        mark.setAttribute("cx", (can.x + 0.7) * scale); mark.setAttribute("cy", (can.y + 0.7) * scale);
        const text = document.createElementNS(ns, "text");
        text.setAttribute("x", (can.x + 0.7) * scale); text.setAttribute("y", (can.y + 0.7) * scale); text.setAttribute("dy", "1.1"); text.setAttribute("pointer-events", "none");
        text.textContent = can.ml === "" ? i + 1 : can.ml;
        svg.append(mark, text);
      });
    };
    const place = (event) => {
      const box = svg.getBoundingClientRect();
      const metres = span(cans()) / box.width;
      return { x: round(Math.max(0, (event.clientX - box.left) * metres - 0.7)), y: round(Math.max(0, (event.clientY - box.top) * metres - 0.7)) };
    };
    return {
      init() {
        [list, svg, most] = [this.$refs.list, this.$refs.layout, Number(this.$root.dataset.most)];
        // Without scripts the list alone is there.
        for (const part of [this.$refs.tools, this.$refs.column]) part.hidden = false;
        svg.removeAttribute("hidden");
        draw();
      },
      draw() { draw(); },
      press(event) {
        const all = cans();
        if (event.target.dataset.at !== undefined) { chosen = Number(event.target.dataset.at); dragging = true; svg.setPointerCapture(event.pointerId); }
        else if (all.length < most) { chosen = all.length; all.push({ ...place(event), ml: "" }); }
        write(all);
        svg.focus();
      },
      pull(event) {
        if (!dragging) return;
        const all = cans();
        Object.assign(all[chosen], place(event));
        write(all);
      },
      drop() { dragging = false; },
      key(event) {
        const all = cans();
        if (!all[chosen]) return;
        const step = { ArrowLeft: [-0.5, 0], ArrowRight: [0.5, 0], ArrowUp: [0, -0.5], ArrowDown: [0, 0.5] }[event.key];
        if (step) { all[chosen].x = round(Math.max(0, all[chosen].x + step[0])); all[chosen].y = round(Math.max(0, all[chosen].y + step[1])); }
        else if (event.key === "Delete" || event.key === "Backspace") { all.splice(chosen, 1); chosen = -1; }
        else return;
        write(all);
        event.preventDefault();
      },
      lay() {
        const number = (ref) => Number(this.$refs[ref].value);
        const before = cans();
        const all = [];
        for (let j = 0; j < number("down"); j++) for (let i = 0; i < number("across"); i++) {
          if (all.length < most) all.push({ x: round(i * number("apart")), y: round(j * number("apart")), ml: (before[all.length] || { ml: "" }).ml });
        }
        chosen = -1;
        write(all);
      },
      paste(event) {
        const values = event.target.value.split(/[\s;]+/).filter((v) => v !== "");
        const all = cans();
        values.forEach((value, i) => { if (all[i]) all[i].ml = value.replace(",", "."); });
        write(all);
      },
    };
  });
});
