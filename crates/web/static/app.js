// Behaviour that a page cannot do without a script: ink, pointing both ways, keys, and keeping what was typed.
"use strict";
(() => {
  const notice = (text) => {
    const n = document.getElementById("notice");
    if (!n) return;
    n.textContent = text;
    n.hidden = !text;
  };

  // The order map: one byte a cell, drawn in the ink of the theme.
  const drawInk = async (canvas) => {
    const columns = Number(canvas.dataset.columns), rows = Number(canvas.dataset.rows);
    const answer = await fetch(canvas.dataset.ink);
    if (!answer.ok) return;
    const ink = new Uint8Array(await answer.arrayBuffer());
    const pit = document.documentElement.dataset.theme === "pit";
    const [r, g, b] = pit ? [238, 240, 234] : [29, 43, 51];
    const whole = new OffscreenCanvas(columns, rows), c = whole.getContext("2d"), image = c.createImageData(columns, rows);
    for (let y = 0; y < rows; y++) for (let x = 0; x < columns; x++) {
      const v = ink[y * columns + x] || 0, at = 4 * ((rows - 1 - y) * columns + x);
      image.data[at] = r; image.data[at + 1] = g; image.data[at + 2] = b;
      image.data[at + 3] = Math.min(255, (v * v * v) / 65025 * 1.5 + v * 0.12);
    }
    c.putImageData(image, 0, 0);
    // Only the part in view is drawn: columns from and to, rows from and to, rows counted from below.
    const [c0, c1, r0, r1] = canvas.dataset.part ? canvas.dataset.part.split(",").map(Number) : [0, columns, 0, rows];
    canvas.width = Math.max(c1 - c0 < columns ? 690 : columns, 1); canvas.height = Math.max(r1 - r0 < rows ? 300 : rows, 1);
    const to = canvas.getContext("2d");
    to.imageSmoothingEnabled = true;
    to.drawImage(whole, c0, rows - r1, c1 - c0, r1 - r0, 0, 0, canvas.width, canvas.height);
    canvas.dataset.drawn = "yes";
  };
  // The map of a drive under way: the page keeps its canvas, every answer brings new ink.
  const drawLive = () => {
    const now = document.querySelector("[data-live-ink]"), canvas = document.getElementById("live-ink");
    if (!now || !canvas || canvas.dataset.ink === now.dataset.liveInk) return;
    Object.assign(canvas.dataset, { ink: now.dataset.liveInk, columns: now.dataset.columns, rows: now.dataset.rows });
    drawInk(canvas);
  };
  const start = () => document.querySelectorAll("canvas[data-ink]:not([data-drawn])").forEach((c) => { c.dataset.drawn = "under way"; drawInk(c); });

  // The map is moved by dragging and by wheel or two fingers; the page with that view is then asked for.
  const look = (map, v0, v1, o0, o1) => {
    const url = `${map.dataset.map}&v=${v0.toFixed(2)},${v1.toFixed(2)}&o=${o0.toFixed(2)},${o1.toFixed(2)}`;
    history.pushState({}, "", url);
    window.htmx.ajax("GET", url, { target: "body", swap: "innerHTML" });
  };
  const shown = (map) => map.dataset.shown.split(",").map(Number);
  const nearer = (map, k) => {
    const [v0, v1, o0, o1] = shown(map), v = (v0 + v1) / 2, o = (o0 + o1) / 2;
    look(map, v - (k * (v1 - v0)) / 2, v + (k * (v1 - v0)) / 2, o - (k * (o1 - o0)) / 2, o + (k * (o1 - o0)) / 2);
  };
  const fingers = new Map();
  let drag = null;
  const spread = () => { const [a, b] = [...fingers.values()]; return Math.hypot(a.x - b.x, a.y - b.y); };
  document.addEventListener("pointerdown", (e) => {
    const map = e.target.closest && e.target.closest("[data-map]");
    if (!map || e.target.closest("a") || e.button > 0) return;
    fingers.set(e.pointerId, { x: e.clientX, y: e.clientY });
    drag = { map, x: e.clientX, y: e.clientY, two: fingers.size === 2 ? spread() : null };
  });
  document.addEventListener("pointermove", (e) => {
    if (!drag || !fingers.has(e.pointerId)) return;
    fingers.set(e.pointerId, { x: e.clientX, y: e.clientY });
    if (!drag.two) drag.map.querySelector("canvas").style.transform = `translate(${e.clientX - drag.x}px, ${e.clientY - drag.y}px)`;
  });
  const letGo = (e) => {
    if (!drag || !fingers.has(e.pointerId)) return;
    const { map, x, y, two } = drag, now = two && fingers.size === 2 ? spread() : null;
    fingers.delete(e.pointerId);
    if (two) {
      if (now !== null) { drag = null; fingers.clear(); if (Math.abs(now - two) > 20) nearer(map, Math.min(4, Math.max(0.25, two / now))); }
      return;
    }
    drag = null;
    const dx = e.clientX - x, dy = e.clientY - y, canvas = map.querySelector("canvas"), box = canvas.getBoundingClientRect();
    if (Math.hypot(dx, dy) < 8) { canvas.style.transform = ""; return; }
    const [v0, v1, o0, o1] = shown(map), dv = (-dx / box.width) * (v1 - v0), dorder = (dy / box.height) * (o1 - o0);
    canvas.style.transform = "";
    look(map, v0 + dv, v1 + dv, o0 + dorder, o1 + dorder);
  };
  document.addEventListener("pointerup", letGo);
  document.addEventListener("pointercancel", (e) => { fingers.delete(e.pointerId); if (drag) drag.map.querySelector("canvas").style.transform = ""; drag = null; });
  let turned = 0;
  document.addEventListener("wheel", (e) => {
    const map = e.target.closest && e.target.closest("[data-map]");
    if (!map || !e.ctrlKey && !map.contains(document.activeElement)) return;
    e.preventDefault();
    clearTimeout(turned);
    const k = e.deltaY < 0 ? 0.6 : 1 / 0.6;
    turned = setTimeout(() => nearer(map, k), 120);
  }, { passive: false });

  // A line lights its parts, a part its lines.
  const rungsOf = (e) => (e.dataset.rung ? [e.dataset.rung] : (e.dataset.rungs || "").split(" ").filter(Boolean));
  const light = (target, on) => {
    const e = target.closest && target.closest("[data-rung],[data-rungs]");
    if (!e) return;
    const rungs = rungsOf(e);
    document.querySelectorAll("[data-rung],[data-rungs]").forEach((o) => {
      if (o === e || rungsOf(o).some((r) => rungs.includes(r))) o.classList.toggle("lit", on && rungs.length > 0);
    });
  };
  for (const [event, on] of [["pointerover", true], ["pointerout", false], ["focusin", true], ["focusout", false]])
    document.addEventListener(event, (e) => light(e.target, on));

  // A gloved finger beside a small part or a thin line means it: within 22 px the nearest is taken.
  const REACH = 22;
  document.addEventListener("click", (e) => {
    const sheet = e.target.closest && e.target.closest(".sheet-wide, .sheet-narrow, .mapframe");
    if (!sheet || e.target.closest("a")) return;
    let best = null, least = Infinity;
    for (const a of sheet.querySelectorAll("a")) {
      const b = a.getBoundingClientRect();
      const off = Math.hypot(e.clientX - (b.left + b.right) / 2, e.clientY - (b.top + b.bottom) / 2);
      const dx = Math.max(b.left - e.clientX, 0, e.clientX - b.right), dy = Math.max(b.top - e.clientY, 0, e.clientY - b.bottom);
      const reach = Math.max(0, REACH - Math.min(b.width, b.height) / 2);
      if (Math.hypot(dx, dy) <= reach && off < least) { best = a; least = off; }
    }
    if (best) best.dispatchEvent(new MouseEvent("click", { bubbles: true, cancelable: true }));
  });

  // Keys.
  const press = (key) => {
    const e = [...document.querySelectorAll(`[data-key="${key}"]`)].find((k) => !k.closest("[hidden]"));
    if (!e) return false;
    if (e.tagName === "A" && e.getAttribute("href").startsWith("#")) {
      const to = document.querySelector(e.getAttribute("href"));
      if (to) { const first = to.querySelector(".answer, input:not([type=hidden]), button"); (first || to).focus(); to.scrollIntoView({ block: "nearest" }); }
    } else if (e.matches("input")) e.focus();
    else e.click();
    return true;
  };
  const step = (by) => {
    const all = [...document.querySelectorAll(".stations a")], at = all.findIndex((a) => a.hasAttribute("aria-current"));
    const to = all[at + by];
    if (at >= 0 && to) to.click();
  };
  document.addEventListener("keydown", (e) => {
    if (e.ctrlKey || e.metaKey || e.altKey || e.isComposing) return;
    const typing = e.target.matches("input:not([type=radio]):not([type=checkbox]), textarea, select");
    if (typing) {
      // Enter goes on to the next mark of the dial; arrows step a reading.
      if (e.target.name === "mm" && e.key === "Enter") {
        const all = [...document.querySelectorAll("input[name=mm]")], next = all[all.indexOf(e.target) + 1];
        e.preventDefault();
        if (next) next.focus(); else e.target.form.requestSubmit();
      } else if (e.target.dataset.step && (e.key === "ArrowUp" || e.key === "ArrowDown")) {
        e.preventDefault();
        const by = Number(e.target.dataset.step) * (e.key === "ArrowUp" ? 1 : -1);
        e.target.value = (Number(e.target.value.replace(",", ".") || 0) + by).toFixed(2);
        e.target.dispatchEvent(new Event("input", { bubbles: true }));
      }
      return;
    }
    if (e.target.matches("[data-map]")) {
      const press = document.querySelector(`[data-mapkey="${CSS.escape(e.key === "=" ? "+" : e.key)}"]`);
      if (press) { e.preventDefault(); press.click(); return; }
    }
    if (e.key === "?") { document.getElementById("keys").showModal(); e.preventDefault(); return; }
    if (e.key === "[") return step(-1);
    if (e.key === "]") return step(1);
    if (press(e.key.toLowerCase())) e.preventDefault();
  });
  document.addEventListener("click", (e) => { if (e.target.closest("[data-print]")) window.print(); });
  const whole = () => document.querySelectorAll("input[data-whole]").forEach((i) => { if (i.value.startsWith("/")) i.value = location.origin + i.value; });
  document.addEventListener("DOMContentLoaded", whole);
  document.addEventListener("htmx:afterSettle", whole);
  // Times are UTC in the page, and the reader's own once they are read.
  const local = () => {
    document.querySelectorAll("time[datetime$=Z]").forEach((t) => {
      const at = new Date(t.getAttribute("datetime"));
      t.textContent = at.toLocaleString(document.documentElement.lang || "en", { weekday: "short", day: "numeric", month: "short", hour: "2-digit", minute: "2-digit", hour12: false });
      if ("begin" in t.dataset && at < Date.now()) t.textContent += " (past)";
    });
    document.querySelectorAll("[data-time-zone]").forEach((z) => { z.textContent = "here"; });
  };
  // Minutes that the reader's clock is behind UTC on the day that was typed.
  document.addEventListener("input", (e) => {
    const behind = e.target.matches("input[type=datetime-local]") && e.target.form.querySelector("[data-behind-utc]");
    if (behind) behind.value = e.target.value ? new Date(e.target.value).getTimezoneOffset() : 0;
  });
  document.addEventListener("DOMContentLoaded", local);
  document.addEventListener("htmx:afterSettle", local);
  document.addEventListener("click", (e) => { if (e.target.closest("[data-keys]")) document.getElementById("keys").showModal(); });

  // A file goes in pieces: a lost connection waits and goes on, a closed page goes on with the same file.
  const PIECE = 1 << 20;
  const wait = (ms) => new Promise((r) => setTimeout(r, ms));
  const upload = async (form, file) => {
    const state = form.querySelector(".upload-state"), bar = state.querySelector("progress"), words = state.querySelector(".upload-words");
    const button = form.querySelector("button:not([type=button])"), at = form.dataset.upload;
    let stopped = false, id = null;
    const say = (text) => { words.textContent = text; };
    const end = (text) => { state.hidden = true; button.disabled = false; notice(text); };
    state.querySelector("[data-upload-stop]").onclick = () => { stopped = true; };
    notice(""); state.hidden = false; button.disabled = true; say(file.name);
    // Answers of the server, asked again while it cannot be reached; an error of the input ends it.
    const ask = async (url, how) => {
      for (let pause = 500; ; pause = Math.min(2 * pause, 8000)) {
        if (stopped) return null;
        let answer = null;
        try { answer = await fetch(url, how); } catch { /* the server is away */ }
        if (answer && answer.redirected) { end("You are signed out: sign in again, then choose the same file; what is here is kept."); return null; }
        if (answer && answer.ok) return answer.json();
        if (answer && answer.status < 500 && answer.status !== 429) {
          const coded = answer.headers.get("x-problem");
          end(coded ? decodeURIComponent(coded) : "The server did not take the file.");
          return null;
        }
        say("The server does not answer. The upload goes on by itself when it is back.");
        await wait(pause);
      }
    };
    const said = new URLSearchParams({ name: file.name, size: String(file.size) });
    for (const field of form.querySelectorAll("input[type=hidden]")) said.set(field.name, field.value);
    const begun = await ask(at, { method: "POST", body: said });
    if (begun) {
      id = begun.id;
      for (let received = begun.received; received < file.size; ) {
        say(`${file.name}: ${(received / 1e6).toFixed(1)} of ${(file.size / 1e6).toFixed(1)} MB`);
        bar.value = (100 * received) / file.size;
        const got = await ask(`${at}/${id}?from=${received}`, { method: "PUT", body: file.slice(received, received + PIECE) });
        if (!got) break;
        received = got.received;
        if (received >= file.size) { location.assign(`${at}/${said.get("of") || id}`); return; }
      }
    }
    if (stopped) end("Stopped. What has come in is kept: choose the same file to go on, or remove it above.");
    if (stopped && id) location.reload();
  };
  document.addEventListener("submit", (e) => {
    const form = e.target.closest("form[data-upload]"), file = form && form.querySelector("input[type=file]").files[0];
    if (!file || file.size === 0) return;
    e.preventDefault();
    upload(form, file);
  });

  // Errors come to the form; the form keeps what was typed.
  document.addEventListener("htmx:responseError", (e) => {
    const coded = e.detail.xhr.getResponseHeader("x-problem");
    notice(coded ? decodeURIComponent(coded) : "The server could not do that. What you typed is still here.");
  });
  document.addEventListener("htmx:sendError", () => notice("The server does not answer. What you typed is still here: try again in a moment."));
  document.addEventListener("htmx:beforeRequest", () => notice(""));
  document.addEventListener("htmx:afterSettle", () => {
    const marked = document.querySelector("body [data-theme-now]");
    if (marked) document.documentElement.dataset.theme = marked.dataset.themeNow;
    start();
    drawLive();
  });
  // A swapped page may be of the other theme.
  document.addEventListener("htmx:beforeSwap", (e) => {
    const m = /<html[^>]*data-theme="(\w+)"/.exec(e.detail.xhr.responseText || "");
    if (m) document.documentElement.dataset.theme = m[1];
  });
  const narrow = window.matchMedia("(max-width: 900px)");
  const fold = () => document.querySelectorAll(".ledger-fold").forEach((d) => { d.open = !narrow.matches; });
  document.addEventListener("DOMContentLoaded", () => { fold(); start(); drawLive(); });
  document.addEventListener("htmx:afterSettle", fold);
  if (document.readyState !== "loading") { fold(); start(); drawLive(); }
})();
