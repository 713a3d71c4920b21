// A visit on a phone: one screen after the other, kept on the phone until the network is back.
(() => {
  const box = window.uplandOutbox;

  document.addEventListener("alpine:init", () => {
    Alpine.data("visit", () => ({
      at: 0, count: 0, left: 0, refused: 0, trouble: "",
      get steps() { return [...this.$root.querySelectorAll("[data-step]")]; },
      get place() { return `Screen ${this.at + 1} of ${this.count}`; },
      get waiting() {
        const said = [];
        if (this.left) said.push(`${this.left} kept on this phone, sent when the network is back`);
        if (this.refused) said.push(`${this.refused} refused, see "not sent" above`);
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
        document.addEventListener("outbox", () => this.tell());
        this.restore().then(() => this.tell());
        this.stay();
      },
      // Pages of this site stay usable without a network.
      async stay() {
        if (!("serviceWorker" in navigator)) return;
        try {
          const answer = await fetch(`${this.$root.dataset.root}/along.json`);
          if (answer.ok) await window.uplandKeep((await answer.json()).pages, () => {});
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
      // What waits of this site stands on its screens, also after the phone was restarted.
      async restore() {
        for (const entry of await box.mine()) {
          if (entry.blob || new URL(entry.url).pathname !== `${this.$root.dataset.root}/visit/entries`) continue;
          const form = this.formOf(entry);
          if (!form) continue;
          for (const field of form.elements) {
            if (!field.name || field.type === "hidden" || field.type === "submit") continue;
            const values = entry.fields.filter(([name]) => name === field.name).map(([, value]) => value);
            if (field.type === "radio" || field.type === "checkbox") field.checked = values.includes(field.value);
            else field.value = values[0] ?? "";
          }
          this.mark(form, entry.refused ? "refused" : "kept here");
          const line = form.querySelector(".errors-live");
          if (line && entry.refused) line.textContent = entry.refused;
        }
      },
      formOf(entry) {
        const of = (name) => (entry.fields.find(([own]) => own === name) || [])[1];
        return [...this.$root.querySelectorAll("form:not(.photo)")].find((form) => form.elements.what.value === of("what") && form.elements.about.value === of("about"));
      },
      mark(form, text) {
        const head = form.querySelector("h2");
        let tag = head.querySelector(".tag");
        if (!tag) { tag = document.createElement("span"); tag.className = "tag"; head.append(" ", tag); }
        tag.textContent = text;
      },
      async keepForm(form) {
        const head = form.querySelector("h2");
        const entry = box.entryOf(form, [...head.childNodes].filter((n) => n.nodeType === 3).map((n) => n.textContent).join(" ").trim());
        // A screen that was refused before is corrected by this one.
        for (const old of await box.mine()) if (old.refused && !old.blob && this.formOf(old) === form && old.url === entry.url) await box.drop(old.key);
        await box.put(entry);
        delete form.dataset.touched;
        const answer = await this.trySend(entry);
        const line = form.querySelector(".errors-live");
        if (answer && !answer.kept) {
          // It was wrong: it is here to be corrected, not in the box of what waits.
          await box.drop(entry.key);
          form.dataset.touched = "yes";
          const said = [answer.text, ...answer.more].join(" ");
          if (line) line.textContent = said; else this.trouble = said;
          return false;
        }
        if (line) line.textContent = "";
        this.mark(form, answer ? "entered" : "kept here");
        const differs = form.querySelector("[data-differs]");
        if (answer && answer.more.length && differs) differs.textContent = answer.more.join(" ");
        return true;
      },
      async photo(input) {
        const file = input.files[0];
        if (!file) return;
        const form = input.form;
        const line = form.querySelector("[role=status]");
        if (file.size > 60 * 1024 * 1024) { line.textContent = "The photograph is larger than 60 MB."; return; }
        const entry = { ...box.entryOf(form, `Photograph: ${box.words(form.closest("[data-step]").querySelector("h2"))}`), blob: file, file: file.name };
        await box.put(entry);
        line.textContent = "Sending the photograph.";
        const answer = await this.trySend(entry);
        if (answer && !answer.kept) await box.drop(entry.key);
        line.textContent = answer ? answer.text : "Kept on this phone, sent when the network is back.";
        input.value = "";
      },
      // What the server said of an entry; null where it is still to be sent.
      async trySend(entry) {
        const answer = await box.trySend(entry);
        this.trouble = box.signedOut() ? "sign in again on this phone to send it" : "";
        return answer && !answer.again ? answer : null;
      },
      async tell() {
        const own = await box.mine();
        this.refused = own.filter((entry) => entry.refused).length;
        this.left = own.length - this.refused;
      },
    }));
  });
})();
