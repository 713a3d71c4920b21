// What fields understood: asked of the server's one reader while somebody types, said beside the field; a text that can be
// read in two ways is asked, with both readings to press. And what was typed survives a switch of units.
document.addEventListener("alpine:init", () => {
  const waiting = new WeakMap();
  const today = () => document.body.dataset.today || "";

  const beside = (field) => {
    if (field.dataset.said) return document.getElementById(field.dataset.said);
    const known = field.id && document.getElementById(`${field.id}-said`);
    if (known) return known;
    const said = document.createElement("output");
    said.className = "understood";
    if (field.id) { said.id = `${field.id}-said`; said.htmlFor = field.id; field.setAttribute("aria-describedby", `${field.getAttribute("aria-describedby") || ""} ${said.id}`.trim()); }
    (field.closest(".control") || field).insertAdjacentElement("afterend", said);
    return said;
  };

  const show = (field, said, answer) => {
    said.replaceChildren();
    said.classList.toggle("asks", answer.refused !== "");
    const name = field.dataset.label ? `${field.dataset.label}: ` : "";
    if (answer.means) said.append(`${name}= ${answer.means}`);
    if (answer.refused) said.append(`${name}${answer.refused} `);
    for (const [text, means] of answer.choices) {
      const choice = document.createElement("button");
      choice.type = "button";
      choice.className = "button is-small";
      choice.textContent = means;
      choice.addEventListener("click", () => {
        field.value = field.dataset.reads === "times" ? field.value.replace(/[^,;]+$/, text) : text;
        field.dispatchEvent(new Event("input", { bubbles: true }));
        field.focus();
      });
      said.append(choice, " ");
    }
    if (answer.refused) field.setAttribute("aria-invalid", "true"); else field.removeAttribute("aria-invalid");
  };

  const ask = async (field) => {
    const said = beside(field);
    if (!said) return;
    const text = field.value;
    if (text.trim() === "") { said.replaceChildren(); field.removeAttribute("aria-invalid"); return; }
    const query = new URLSearchParams({ reads: field.dataset.reads, unit: field.dataset.unit || "", text, today: today() });
    for (const name of ["rate", "step"]) if (field.dataset[name]) query.set(name, field.dataset[name]);
    // Without a network the server says later what it could not read; nothing is lost.
    const answer = await fetch(`/typed?${query}`).then((r) => (r.ok ? r.json() : null), () => null);
    if (answer && field.value === text) show(field, said, answer);
  };

  // The time zone of a position is proposed in the empty field.
  const propose = async () => {
    const [latitude, longitude, zone] = ["latitude", "longitude", "time_zone"].map((id) => document.getElementById(id));
    if (!latitude || !longitude || !zone || latitude.value.trim() === "" || longitude.value.trim() === "") return;
    const query = new URLSearchParams({ reads: "zone", text: `${latitude.value};${longitude.value}` });
    const answer = await fetch(`/typed?${query}`).then((r) => (r.ok ? r.json() : null), () => null);
    if (answer && answer.means) { zone.placeholder = answer.means; beside(zone).textContent = zone.value.trim() === "" ? `= ${answer.means}` : ""; }
  };
  // A switch of units keeps what was typed: each number with the unit that it was typed in.
  const key = () => `typed:${location.pathname}${location.search}`;

  Alpine.data("fields", () => ({
    // What is put back is heard as if it were typed: only once the listeners are there.
    init() { this.$nextTick(() => this.restore()); },
    restore() {
      // A refused field says at once what may be pressed instead.
      document.querySelectorAll("[data-reads][aria-invalid=true]").forEach(ask);
      const kept = sessionStorage.getItem(key());
      if (!kept) return;
      sessionStorage.removeItem(key());
      for (const was of JSON.parse(kept)) {
        const field = [...document.querySelectorAll("main form [name]")].find((f) => f.name === was.name && (!["checkbox", "radio"].includes(was.type) || f.value === was.text));
        if (!field) continue;
        if (was.type === "checkbox" || was.type === "radio") field.checked = was.on;
        else {
          const bare = /^[\s\d.,/½¼¾⅛⅜⅝⅞+−-]+$/.test(was.text);
          const other = field.dataset.unit && was.unit && field.dataset.unit !== was.unit;
          field.value = bare && other ? `${was.text.trim()} ${was.unit}` : was.text;
        }
        field.dispatchEvent(new Event("input", { bubbles: true }));
      }
    },
    typed(event) {
      const field = event.target;
      if (!field.matches("[data-reads]")) return;
      clearTimeout(waiting.get(field));
      waiting.set(field, setTimeout(() => ask(field), 120));
    },
    placed(event) { if (["latitude", "longitude", "time_zone"].includes(event.target.id)) propose(); },
    switching(event) {
      const form = event.target;
      if (!form.matches("form[data-units]")) return;
      form.elements.back.value = location.pathname + location.search;
      const dirty = [...document.querySelectorAll("main form input[name], main form textarea[name], main form select[name]")].filter((f) => {
        if (f.type === "hidden" || f.type === "password" || f.type === "file") return false;
        if (f.type === "checkbox" || f.type === "radio") return f.checked !== f.defaultChecked;
        if (f.tagName === "SELECT") return [...f.options].some((o) => o.selected !== o.defaultSelected);
        return f.value !== f.defaultValue;
      });
      if (dirty.length === 0) return;
      sessionStorage.setItem(key(), JSON.stringify(dirty.map((f) => ({ name: f.name, text: f.value, on: f.checked, type: f.type, unit: f.dataset.unit || "" }))));
    },
  }));
});
