// The weather chart: values by what they are worth, zoom by dragging, buttons and keys.
document.addEventListener("alpine:init", () => {
  Alpine.data("weatherchart", () => {
    // Outside of what Alpine watches: a chart is no plain value.
    let form = null;
    let box = null;
    let words = null;
    const DAY = 86400;
    // A day or an hour in universal time, as the reader writes it.
    const day = (when) => {
      const [d, m, y] = [when.getUTCDate(), when.toLocaleString("en", { month: "short", timeZone: "UTC" }), when.getUTCFullYear()];
      return document.body.dataset.dates === "month" ? `${m} ${d}, ${y}` : `${d} ${m} ${y}`;
    };
    const hour = (when) => when.toLocaleString("en", { hour: "2-digit", minute: "2-digit", hour12: document.body.dataset.hours === "12", timeZone: "UTC" });
    const ink = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
    let plot = null;
    let series = null;
    let days = null;

    const shape = (draw) => (u, at) => {
      const path = new Path2D();
      u.data[at].forEach((value, i) => {
        if (value === null) return;
        const x = u.valToPos(u.data[0][i], "x", true);
        const y = u.valToPos(value, "y", true);
        if (x >= u.bbox.left - 9 && x <= u.bbox.left + u.bbox.width + 9) draw(path, x, y, 4 * devicePixelRatio);
      });
      return { stroke: path, fill: null };
    };
    const cross = shape((p, x, y, r) => { p.moveTo(x - r, y - r); p.lineTo(x + r, y + r); p.moveTo(x - r, y + r); p.lineTo(x + r, y - r); });
    const ring = shape((p, x, y, r) => { p.moveTo(x + r, y); p.arc(x, y, r, 0, 7); });
    const square = shape((p, x, y, r) => { p.rect(x - r * 0.7, y - r * 0.7, r * 1.4, r * 1.4); });

    const draw = () => {
      if (plot) plot.destroy();
      box.querySelectorAll("p").forEach((p) => p.remove());
      if (!series.at.length) { const p = document.createElement("p"); p.textContent = "This source has nothing yet."; box.append(p); return; }
      const marks = (label, paths, colour) => ({ label, paths, stroke: ink(colour), width: 1.6, points: { show: false } });
      const axis = { stroke: ink("--ink-soft"), grid: { stroke: ink("--rule"), width: 1 }, ticks: { stroke: ink("--rule") }, font: "13px 'Atkinson Hyperlegible Next'" };
      plot = new uPlot({
        width: box.clientWidth, height: 300,
        tzDate: (seconds) => uPlot.tzDate(new Date(seconds * 1000), "Etc/UTC"),
        cursor: { drag: { x: true, y: false, setScale: true } },
        legend: { live: false },
        scales: { x: { time: true } },
        axes: [axis, { ...axis, label: series.unit, labelFont: axis.font, size: 56 }],
        series: [{},
          { label: "counts", stroke: ink("--ink"), width: 1.2, spanGaps: false, points: { show: false } },
          marks("doubtful, counts ○", ring, "--sun"),
          marks("does not count ×", cross, "--rust"),
          marks("is backed up by another source □", square, "--moss")],
        hooks: {
          setCursor: [(u) => {
            const i = u.cursor.idx;
            if (i === null || i === undefined) return;
            const named = [["good", "counts"], ["doubtful", "doubtful, counts"], ["rejected", "does not count"], ["filled", "stands in"]];
            const said = named.filter(([key]) => series[key][i] !== null).map(([key, word]) => `${Math.round(series[key][i] * 100) / 100} ${series.unit} ${word}`);
            const when = new Date(series.at[i] * 1000);
            words.textContent = `${day(when)}${series.hourly ? `, ${hour(when)} UTC` : ""}: ${said.join("; ") || "nothing measured"}`;
          }],
        },
      }, [series.at, series.good, series.doubtful, series.rejected, series.filled], box);
    };

    const load = async (span) => {
      const query = new URLSearchParams(new FormData(form));
      if (span) { query.set("from", span[0]); query.set("to", span[1]); }
      const answer = await fetch(`${form.dataset.url}?${query}`);
      if (!answer.ok) { words.textContent = "The values could not be fetched; reload the page."; return; }
      series = await answer.json();
      if (!series.hourly) days = series;
      draw();
    };
    const extent = () => [series.at[0], series.at[series.at.length - 1]];
    const show = (min, max) => plot && plot.setScale("x", { min, max });
    const date = (seconds) => new Date(seconds * 1000).toISOString().slice(0, 10);
    const zoom = (factor, shift) => {
      if (!plot) return;
      const { min, max } = plot.scales.x;
      const middle = (min + max) / 2 + shift * (max - min);
      const half = ((max - min) / 2) * factor;
      show(middle - half, middle + half);
    };
    return {
      init() {
        [form, box, words] = [this.$refs.form, this.$refs.chart, this.$refs.words];
        new ResizeObserver(() => { if (plot) plot.setSize({ width: box.clientWidth, height: 300 }); }).observe(box);
        load();
      },
      fetchit() { load(); },
      async look(event) {
        if (!plot) return;
        const asked = event.currentTarget.dataset.zoom;
        const end = Math.min(plot.scales.x.max, extent()[1]);
        if (asked === "month") { await load([date(end - 30 * DAY), date(end)]); return; }
        if (series.hourly) { series = days; draw(); }
        if (asked === "all") show(...extent());
        else show(end - 365 * DAY, end);
      },
      key(event) {
        const done = { ArrowLeft: () => zoom(1, -0.25), ArrowRight: () => zoom(1, 0.25), "+": () => zoom(0.5, 0), "=": () => zoom(0.5, 0), "-": () => zoom(2, 0), 0: () => show(...extent()) }[event.key];
        if (done) { done(); event.preventDefault(); event.stopPropagation(); }
      },
    };
  });
});
