// Nothing typed is lost: what stands in a form and was not sent is kept in this browser, by person and by form, and comes back with a
// line that says so. Errors of the server stand at their field. Some forms save by themselves.
"use strict";
(() => {
  const KEEP_DAYS = 30, PAUSE = 250, SAVE_AFTER = 900;
  const person = () => (document.cookie.split("; ").find((c) => c.startsWith("person=")) || "person=").slice(7);
  const prefix = () => `draft ${person()} `;
  const store = {
    read: (key) => { try { return JSON.parse(localStorage.getItem(key)); } catch { return null; } },
    write: (key, value) => {
      // A full store lets the oldest go.
      for (let n = 0; n < 20; n += 1) {
        try { localStorage.setItem(key, JSON.stringify(value)); return true; } catch { if (!oldest(key)) return false; }
      }
      return false;
    },
    drop: (key) => { try { localStorage.removeItem(key); } catch { /* no storage */ } },
  };
  const keys = () => { try { return Object.keys(localStorage).filter((k) => k.startsWith("draft ")); } catch { return []; } };
  const oldest = (but) => {
    const all = keys().filter((k) => k !== but).map((k) => [k, (store.read(k) || {}).at || 0]).sort((a, b) => a[1] - b[1]);
    if (!all.length) return false;
    store.drop(all[0][0]);
    return true;
  };
  const expire = () => keys().forEach((k) => { const d = store.read(k); if (!d || Date.now() - d.at > KEEP_DAYS * 864e5) store.drop(k); });

  // Which form: where it is sent, and what it is about. What a page counts anew each time says nothing of that.
  const COUNTED = ["version", "edit", "observations", "answers", "back", "symptom", "s", "next"];
  const isForm = (f) => f && f.matches && f.matches("form") && (f.getAttribute("method") || "").toLowerCase() === "post" && !f.querySelector("input[type=password]");
  const fields = (f) => [...f.elements].filter((e) => e.name && e.matches("input:not([type=hidden]):not([type=file]):not([type=submit]), textarea, select"));
  const keyOf = (f) => {
    const about = [...f.querySelectorAll("input[type=hidden]")].filter((i) => !COUNTED.includes(i.name) && !i.name.startsWith("was.")).map((i) => `${i.name}=${i.defaultValue}`).join("&");
    const names = [...new Set(fields(f).map((e) => e.name))].join(",");
    return `${prefix()}${f.getAttribute("action") || location.pathname} ${about} ${names}`;
  };
  const isOn = (e) => e.matches("[type=radio], [type=checkbox]");
  const value = (e) => (isOn(e) ? e.checked : e.value);
  const original = (e) => {
    if (isOn(e)) return e.defaultChecked;
    if (e.tagName !== "SELECT") return e.defaultValue;
    const chosen = [...e.options].find((o) => o.defaultSelected) || e.options[0];
    return chosen ? chosen.value : "";
  };
  // The n-th field of a name; of radios and boxes the one with its value.
  const nameOf = (e, all) => (isOn(e) ? `${e.name}=${e.value}` : `${e.name}#${all.filter((x) => x.name === e.name).indexOf(e)}`);

  const remember = (form) => {
    if (!isForm(form) || form.dataset.sent) return;
    const all = fields(form), typed = {};
    for (const e of all) if (value(e) !== original(e)) typed[nameOf(e, all)] = value(e);
    if (Object.keys(typed).length) store.write(keyOf(form), { at: Date.now(), typed });
    else { store.drop(keyOf(form)); tell(form, null); }
  };
  const tell = (form, draft) => {
    const old = form.querySelector(":scope > .draft-line");
    if (old) old.remove();
    if (!draft) return;
    const line = document.createElement("p"), drop = document.createElement("button");
    line.className = "draft-line";
    line.setAttribute("role", "status");
    line.textContent = `Not saved yet: what you typed on ${new Date(draft.at).toLocaleString([], { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" })} is back. `;
    drop.type = "button"; drop.className = "button"; drop.textContent = "Discard it";
    drop.onclick = () => { store.drop(keyOf(form)); form.reset(); tell(form, null); form.dispatchEvent(new Event("input", { bubbles: true })); };
    line.append(drop);
    form.prepend(line);
    // Whatever is folded round it opens.
    for (let d = form.closest("details"); d; d = d.parentElement && d.parentElement.closest("details")) d.open = true;
    const inner = [...form.querySelectorAll("details")].filter((d) => fields(form).some((e) => d.contains(e) && value(e) !== original(e)));
    inner.forEach((d) => { d.open = true; });
  };
  const restore = (form) => {
    if (!isForm(form) || form.dataset.drafted) return;
    form.dataset.drafted = "yes";
    const key = keyOf(form), draft = store.read(key);
    if (!draft) return;
    const all = fields(form);
    let back = false;
    for (const e of all) {
      const was = draft.typed[nameOf(e, all)];
      if (was === undefined || was === original(e)) continue;
      if (isOn(e)) e.checked = was; else e.value = was;
      if (value(e) === was) back = true;
    }
    if (!back) { store.drop(key); return; }
    tell(form, draft);
    // What answers while one types answers what is back, too.
    const first = all.find((e) => value(e) !== original(e));
    if (first) first.dispatchEvent(new Event("input", { bubbles: true }));
  };
  const restoreAll = () => { document.querySelectorAll("form").forEach(restore); begunSending(); };

  const waiting = new Map();
  const soon = (form) => {
    clearTimeout(waiting.get(form));
    waiting.set(form, setTimeout(() => { waiting.delete(form); remember(form); }, PAUSE));
  };
  const now = () => { for (const [form, t] of waiting) { clearTimeout(t); remember(form); } waiting.clear(); };
  for (const event of ["input", "change"]) document.addEventListener(event, (e) => {
    const form = e.target.form;
    if (!isForm(form)) return;
    delete form.dataset.sent;
    soon(form);
    unmark(e.target);
  });
  window.addEventListener("pagehide", now);
  document.addEventListener("visibilitychange", now);
  document.addEventListener("htmx:beforeSwap", now);

  // A form that was taken is none any more. One that a session ended, a server away or a refusal stopped stays.
  const forget = (form) => { if (!isForm(form)) return; clearTimeout(waiting.get(form)); waiting.delete(form); form.dataset.sent = "yes"; store.drop(keyOf(form)); };
  const isSignIn = (url) => { try { return new URL(url, location.href).pathname === "/sign-in"; } catch { return false; } };
  document.addEventListener("htmx:afterRequest", (e) => {
    // The form itself may be gone from the page by now.
    const { elt: form, verb } = e.detail.requestConfig || {};
    if (!isForm(form) || verb !== "post") return;
    // What a button sends elsewhere is a part of the form: the rest comes back.
    if (e.detail.requestConfig.path !== form.getAttribute("action")) return;
    if (e.detail.successful && !isSignIn(e.detail.xhr.responseURL)) forget(form);
  });
  // Forms that the browser sends itself: they are done with when another page than an error comes.
  const SENDING = "draft sending";
  document.addEventListener("submit", (e) => {
    const form = e.target;
    if (!isForm(form)) return;
    now(); remember(form);
    const plain = form.getAttribute("hx-boost") === "false" || form.closest("[hx-boost=false]");
    if (plain && !e.defaultPrevented) try { sessionStorage.setItem(SENDING, keyOf(form)); } catch { /* no storage */ }
  });
  const begunSending = () => {
    let key = null;
    try { key = sessionStorage.getItem(SENDING); sessionStorage.removeItem(SENDING); } catch { /* no storage */ }
    if (key && !document.querySelector("main.fail, main.sign")) store.drop(key);
  };
  document.addEventListener("answered", (e) => forget(e.target));

  // An error stands at its field; the page goes there.
  const unmark = (e) => {
    if (!e.hasAttribute || !e.hasAttribute("aria-invalid")) return;
    const line = document.getElementById(e.getAttribute("aria-describedby"));
    if (line) line.remove();
    e.removeAttribute("aria-invalid"); e.removeAttribute("aria-describedby");
  };
  const mark = (form, name, words) => {
    form.querySelectorAll("[aria-invalid]").forEach(unmark);
    const all = [...form.elements].filter((e) => e.name === name && e.type !== "hidden");
    const field = all.find((e) => isOn(e) || value(e) !== "" && words.includes(`“${value(e)}”`)) || all.find((e) => !isOn(e) && value(e) === "" && all.length > 1) || all[0];
    if (!field) return false;
    const line = document.createElement("span");
    line.className = "field-error"; line.id = "field-error"; line.setAttribute("role", "alert"); line.textContent = words;
    const old = document.getElementById("field-error");
    if (old) old.remove();
    field.setAttribute("aria-invalid", "true"); field.setAttribute("aria-describedby", line.id);
    const box = isOn(field) ? field.closest("fieldset") || field.parentElement : field.closest("label") || field.parentElement;
    box.append(line);
    for (let d = field.closest("details"); d; d = d.parentElement && d.parentElement.closest("details")) d.open = true;
    field.focus({ preventScroll: true });
    box.scrollIntoView({ block: "center" });
    return true;
  };
  document.addEventListener("htmx:responseError", (e) => {
    const form = e.detail.elt.closest && e.detail.elt.closest("form"), xhr = e.detail.xhr;
    const name = xhr.getResponseHeader("x-problem-field"), words = xhr.getResponseHeader("x-problem");
    if (!form || !name || !words) return;
    const said = decodeURIComponent(words).replace(/ \([^()]*\)$/, "");
    if (mark(form, decodeURIComponent(name), said)) {
      const n = document.getElementById("notice");
      if (n) { n.textContent = said; n.hidden = false; }
    }
  });

  // Forms that save by themselves, once a field is left. What does not fit yet waits, and stays as it is typed.
  const saving = new Map();
  const state = (form, text) => {
    let s = form.querySelector(".saved-line");
    if (!s) { s = document.createElement("p"); s.className = "saved-line"; s.setAttribute("role", "status"); form.append(s); }
    s.textContent = text;
  };
  const save = async (form) => {
    const to = form.dataset.autosave, body = new URLSearchParams(new FormData(form));
    if (form.dataset.autosaveAs) { const [name, v] = form.dataset.autosaveAs.split("="); body.set(name, v); }
    let answer = null;
    try { answer = await fetch(to, { method: "POST", body }); } catch { /* the server is away */ }
    if (!form.isConnected) return;
    if (!answer || isSignIn(answer.url)) { state(form, answer ? "You are signed out: what you typed is kept here until you are back." : "The server is away: what you typed is kept here."); return; }
    if (!answer.ok) {
      const words = answer.headers.get("x-problem");
      state(form, `Not saved yet: ${words ? decodeURIComponent(words) : "the server did not take it"}.`);
      return;
    }
    // What was sent stands now; what was typed since does not.
    const page = new DOMParser().parseFromString(await answer.text(), "text/html"), version = page.querySelector("input[name=version]");
    if (version) document.querySelectorAll("input[name=version]").forEach((i) => { i.value = version.value; });
    for (const e of fields(form)) {
      if (isOn(e)) { if (body.getAll(e.name).includes(e.value) === e.checked) e.defaultChecked = e.checked; continue; }
      if (!body.getAll(e.name).includes(e.value)) continue;
      if (e.tagName === "SELECT") [...e.options].forEach((o) => { o.defaultSelected = o.selected; }); else e.defaultValue = e.value;
    }
    remember(form);
    state(form, `Saved ${new Date().toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" })}.`);
  };
  document.addEventListener("change", (e) => {
    const form = e.target.form;
    if (!form || !form.dataset.autosave || form.dataset.autosaveOf && !e.target.closest(form.dataset.autosaveOf)) return;
    clearTimeout(saving.get(form));
    saving.set(form, setTimeout(() => save(form), SAVE_AFTER));
  });
  document.addEventListener("submit", (e) => clearTimeout(saving.get(e.target)), true);

  document.addEventListener("DOMContentLoaded", () => { expire(); restoreAll(); });
  document.addEventListener("htmx:afterSettle", restoreAll);
})();
