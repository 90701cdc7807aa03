// Answers under the vehicle: sent one after the other, kept while the server is away, each arriving once. What others
// answer meanwhile comes to the page by itself.
"use strict";
(() => {
  const wait = (ms) => new Promise((r) => setTimeout(r, ms));
  const notice = (text) => {
    const n = document.getElementById("notice");
    if (n) { n.textContent = text; n.hidden = !text; }
  };
  // The id of an edit, a UUID of version 7: what is sent again because its receipt was lost is kept once.
  const uuid = () => {
    const b = crypto.getRandomValues(new Uint8Array(16)), ms = Date.now();
    for (let i = 0; i < 6; i++) b[i] = Math.floor(ms / 2 ** (8 * (5 - i))) & 255;
    b[6] = (b[6] & 15) | 112; b[8] = (b[8] & 63) | 128;
    const hex = [...b].map((n) => n.toString(16).padStart(2, "0")).join("");
    return hex.replace(/^(.{8})(.{4})(.{4})(.{4})(.{12})$/, "$1-$2-$3-$4-$5");
  };
  // What a form of the lift does to the case, by the address that it would be sent to.
  const acts = {
    observations: (v) => ({ "answer-test": { ...v.of("test", "symptom", "at", "gear", "outcome", "note", "phase"), also: v.all("also"), seen_to: v.all("seen-to") } }),
    "lift/later": (v) => ({ "ask-later": v.of("test", "at", "gear") }),
    "lift/vote": (v) => ({ "answer-blind": { question: v.of("test", "symptom", "at", "gear"), ...v.of("outcome", "note"), seen_to: v.all("seen-to") } }),
    "lift/decide": (v) => ({ "decide-blind": { question: v.of("test", "symptom", "at", "gear"), ...v.of("stands") } }),
  };
  const act = (path, body) => {
    const all = (name) => body.getAll(name).map((x) => x.trim()).filter(Boolean);
    const of = (...names) => Object.fromEntries(names.filter((n) => all(n).length).map((n) => [n, all(n)[0]]));
    const [, id, kind] = path.match(/^\/cases\/([^/]+)\/(.+)$/) || [];
    return kind in acts ? { url: `/api/v1/cases/${id}/edits`, page: `/cases/${id}/${all("back")[0] || "lift"}?s=${all("symptom")[0] || ""}`, act: acts[kind]({ all, of }) } : null;
  };

  // What waits is kept in this browser too, until it has arrived: a closed tab or a dead battery loses none of it. With its id an edit
  // that is sent again is kept once. Files cannot wait so.
  const who = () => (document.cookie.split("; ").find((c) => c.startsWith("person=")) || "person=").slice(7);
  const KEPT = () => `waiting ${who()}`;
  const keepQueue = () => {
    const all = queue.filter((q) => q.edit).map(({ url, page, edit, words }) => ({ url, page, edit, words }));
    try { if (all.length) localStorage.setItem(KEPT(), JSON.stringify(all)); else localStorage.removeItem(KEPT()); } catch { /* no storage */ }
  };
  const takeKept = () => {
    let all = [];
    try { all = JSON.parse(localStorage.getItem(KEPT())) || []; } catch { /* none */ }
    const news = all.filter((k) => !queue.some((q) => q.edit && q.edit.id === k.edit.id));
    for (const k of news) queue.push({ ...k, stop: null, passed: true });
    return news.length > 0;
  };
  const queue = [], refused = [];
  // What the last refusal said: a page that is shown after it says it too.
  let busy = false, away = false, unread = "";

  const draw = () => {
    keepQueue();
    let list = document.getElementById("waiting");
    const shown = away ? queue : [];
    if (!shown.length && !refused.length) { if (list) list.remove(); return; }
    if (!list) {
      list = document.createElement("aside");
      list.id = "waiting";
      list.setAttribute("role", "status");
      (document.getElementById("main") || document.body).prepend(list);
    }
    list.replaceChildren();
    const line = (tag, text) => { const e = document.createElement(tag); e.textContent = text; list.append(e); };
    if (shown.length) {
      line("strong", `The server is away. ${shown.length === 1 ? "One answer waits" : `${shown.length} answers wait`} in this page: leave it open, they arrive by themselves.`);
      for (const q of shown) line("p", q.words);
    }
    for (const r of refused) line("p", `Not taken: ${r}`);
  };

  // The next question of the walk, from what the page holds.
  const advance = (entry) => {
    if (entry.passed || !entry.stop || !entry.stop.isConnected) return;
    entry.passed = true;
    entry.stop.hidden = true;
    const next = [...document.querySelectorAll("article.stop")].find((s) => s.hidden && !s.dataset.answered);
    if (next) next.hidden = false;
    else if (!document.querySelector("article.stop:not([hidden])")) notice("That was the last question that this page holds.");
    draw();
  };

  const show = (url, text) => {
    const page = new DOMParser().parseFromString(text, "text/html");
    document.body.replaceChildren(...page.body.childNodes);
    if (location.href !== url) history.pushState({}, "", url);
    window.htmx.process(document.body);
    document.dispatchEvent(new Event("htmx:afterSettle"));
    draw();
    if (unread) notice(unread);
  };
  const begun = (part) => [...part.querySelectorAll("input:not([type=hidden]):not([type=file]), textarea")]
    .some((i) => i.value !== i.defaultValue && !i.closest("[hidden], [data-answered]"));
  const typing = () => begun(document.getElementById("main") || document.body);

  // Edits that wait for one case go together; a file goes alone.
  const MOST = 50;
  const next = () => queue[0].edit ? queue.slice(0, MOST).filter((q, i, all) => q.edit && q.url === queue[0].url && all.slice(0, i).every((p) => p.edit && p.url === queue[0].url)) : [queue[0]];
  const post = (batch) => {
    const [e] = batch;
    // A connection that hangs is let go: with its id an edit may be sent again.
    if (!e.edit) return fetch(e.url, { method: "POST", body: e.body, signal: AbortSignal.timeout(180000) });
    return fetch(e.url, { method: "POST", headers: { "content-type": "application/json" }, body: JSON.stringify({ edits: batch.map((q) => q.edit) }), signal: AbortSignal.timeout(20000) });
  };
  const tell = (e, why) => {
    if (e.stop && e.stop.isConnected && !e.passed) { delete e.stop.dataset.answered; unread = why; notice(why); } else refused.push(`${e.words}: ${why}`);
  };
  const pump = async () => {
    if (busy) return;
    busy = true;
    let last = null;
    for (let pause = 500; queue.length; ) {
      const batch = next();
      const slow = setTimeout(() => { away = true; batch.forEach(advance); draw(); }, 1500);
      let answer = null;
      try { answer = await post(batch); } catch { /* the server is away */ }
      clearTimeout(slow);
      const out = answer && (answer.status === 401 || answer.redirected && new URL(answer.url).pathname === "/sign-in");
      if (answer && answer.ok && !out) {
        let said = null;
        try { said = batch[0].edit ? (await answer.json()).edits : await answer.text(); } catch { /* it broke off: it is sent again */ }
        if (said !== null) {
          queue.splice(0, batch.length); pause = 500;
          if (!batch[0].edit) last = { url: answer.url, text: said };
          else batch.forEach((q, i) => {
            const s = said[i] || {};
            if (s.status === "applied" || s.status === "already") last = { url: q.page };
            else tell(q, s.error ? s.error.message : `${(s.both ? s.both.theirs : []).map((t) => `${t.by}: ${t.what}`).join("; ")}: changed meanwhile`);
          });
          draw();
          continue;
        }
      }
      // What the server refuses would be refused again: it is told and not in the way of the rest. Whatever else
      // it answers (a fault, a limit, too slow) may be otherwise in a moment: the answer is kept and sent again.
      if (answer && !answer.ok && !out && answer.status >= 400 && answer.status < 500 && ![408, 429].includes(answer.status)) {
        let why = `status ${answer.status}`;
        const coded = answer.headers.get("x-problem");
        try { why = batch[0].edit ? (await answer.json()).error.message : coded ? decodeURIComponent(coded) : why; } catch { /* no more is known */ }
        queue.splice(0, batch.length);
        batch.forEach((q) => tell(q, why));
        draw();
        continue;
      }
      away = true;
      for (const q of queue) advance(q);
      draw();
      if (out) notice("You are signed out: sign in in another tab; what waits here is sent then.");
      await wait(pause);
      pause = Math.min(1.5 * pause, 4000);
    }
    busy = false; away = false;
    draw();
    if (!last) { ask(); return; }
    if (typing()) { notice("All answers have arrived. The question on this page is from before them."); return; }
    try {
      if (!last.text) { const page = await fetch(last.url); last = { url: page.url, text: await page.text() }; }
      if (!busy && !typing()) show(last.url, last.text);
      ask();
    } catch { notice("All answers have arrived."); }
  };

  const send = (form, url, body, words) => {
    const stop = form.closest("article.stop"), one = act(url, body);
    if (!one) return false;
    stop && (stop.dataset.answered = "yes");
    const edit = { id: uuid(), at_time: new Date().toISOString(), do: one.act };
    const entry = { url: one.url, page: one.page, edit, words, stop };
    queue.push(entry);
    keepQueue();
    form.dispatchEvent(new Event("answered", { bubbles: true }));
    unread = "";
    if (away) { advance(entry); draw(); }
    pump();
    return true;
  };

  document.addEventListener("submit", (e) => {
    const form = e.target.closest("form[data-answer]");
    if (!form) return;
    e.preventDefault(); e.stopPropagation();
    if (form.closest("article.stop") && form.closest("article.stop").dataset.answered) return;
    const by = e.submitter, stop = form.closest("article.stop");
    const body = new URLSearchParams(new FormData(form));
    if (by && by.name) body.append(by.name, by.value);
    const said = by ? (by.querySelector("b") || by).textContent.trim() : "";
    const words = `${stop ? stop.querySelector("h2").textContent.trim() : ""}: ${said}`;
    send(form, (by && by.getAttribute("formaction")) || form.getAttribute("action"), body, words);
  }, true);
  // A picture or a spoken note goes as soon as it is there, by the same way.
  document.addEventListener("change", (e) => {
    const form = e.target.closest && e.target.closest("form[data-pin]"), file = form && e.target.files && e.target.files[0];
    if (!file) return;
    const most = Number(form.dataset.pin);
    if (file.size > most) { notice(`${file.name} has ${(file.size / 1e6).toFixed(0)} MB: up to ${(most / 1e6).toFixed(0)} MB are kept with a part.`); return; }
    // The fields come first: the server knows where it belongs before the bytes arrive.
    const body = new FormData();
    for (const i of form.querySelectorAll("input[type=hidden]")) body.append(i.name, i.value);
    const stop = form.closest("article.stop");
    body.append("edit", uuid());
    body.append("file", file, file.name);
    queue.push({ url: form.getAttribute("action"), body, words: `${file.name}: ${stop ? stop.querySelector("h2").textContent.trim() : ""}`, stop: null });
    notice(`${file.name} is on its way.`);
    pump();
  });
  window.addEventListener("online", () => pump());
  window.addEventListener("beforeunload", (e) => { if (queue.length) e.preventDefault(); });
  const settle = () => { draw(); document.querySelectorAll("[data-insecure]").forEach((p) => { p.hidden = window.isSecureContext; }); };
  document.addEventListener("htmx:afterSettle", () => { settle(); watch(); });
  document.addEventListener("DOMContentLoaded", () => { const back = takeKept(); settle(); watch(); if (back) { away = true; draw(); pump(); } });

  // What others do on the same case comes by itself.
  const told = async (l, news) => {
    if (!l.isConnected || busy || queue.length || news.version <= Number(l.dataset.version)) return;
    l.dataset.version = news.version;
    const words = news.steps.map((s) => `${s.person}: ${s.what}`).join(" · ");
    const read = (url) => fetch(url).then((r) => r.text()).then((t) => new DOMParser().parseFromString(t, "text/html")).catch(() => null);
    // Who stands at a question stays there while others answer theirs; one that is answered meanwhile is over.
    const stop = document.querySelector("article.stop:not([hidden])"), place = new URL(location.href);
    if (stop && !stop.dataset.answered) for (const key of ["test", "at", "gear"]) {
      if (stop.dataset[key]) place.searchParams.set(key, stop.dataset[key]); else place.searchParams.delete(key);
    }
    let page = await read(place);
    const shown = page && page.querySelector("article.stop");
    if (shown && shown.dataset.over) page = await read(location.pathname + (place.searchParams.get("s") ? `?s=${place.searchParams.get("s")}` : ""));
    if (!page || !l.isConnected || busy) return;
    const parts = [".band", ".ledger-live", "#safety"];
    const asks = document.querySelector("[data-live-main]");
    if (asks && !typing()) parts.push("#main");
    for (const p of parts) {
      const here = document.querySelector(p), there = page.querySelector(p);
      // What is being typed, or is unfolded, stays as it is.
      if (!here || !there || p !== "#main" && begun(here)) continue;
      if (here.tagName === "DETAILS") there.open = here.open;
      here.replaceWith(document.adoptNode(there));
      window.htmx.process(document.querySelector(p));
    }
    notice(asks && typing() ? `${words}. What you are typing stays; this question is from before that.` : words);
  };
  // The server tells as it happens; a page that is not looked at holds no connection. Where nothing comes by that way the page asks.
  const ASKS = 4000, FAILURES = 3;
  let source = null, of = null, failures = 0, asking = null;
  const moved = () => window.htmx.trigger(document.body, "moved");
  const ask = async () => {
    const l = document.getElementById("live");
    if (!l || document.hidden || busy || queue.length) return;
    try {
      const answer = await fetch(`${l.dataset.live}?v=${l.dataset.version}`);
      if (answer.status === 200 && !answer.redirected) await told(l, await answer.json());
      moved();
    } catch { /* it asks again */ }
  };
  const hush = () => { if (source) source.close(); source = null; of = null; };
  const watch = () => {
    const l = document.getElementById("live");
    if (!l || document.hidden) { hush(); return; }
    if (of === l.dataset.live && source && source.readyState !== EventSource.CLOSED) return;
    hush();
    of = l.dataset.live;
    source = new EventSource(`${of}?v=${l.dataset.version}`);
    source.addEventListener("open", () => { failures = 0; clearInterval(asking); asking = null; });
    source.addEventListener("edited", (e) => { const now = document.getElementById("live"); if (now && now.dataset.live === of) told(now, JSON.parse(e.data)); moved(); });
    source.addEventListener("moved", moved);
    source.addEventListener("error", () => {
      failures += 1;
      if (failures >= FAILURES && !asking) asking = setInterval(ask, ASKS);
      // Closed for good: it is tried again later.
      if (source && source.readyState === EventSource.CLOSED) { hush(); setTimeout(watch, ASKS); }
    });
  };
  document.addEventListener("visibilitychange", watch);
  window.addEventListener("pagehide", hush);

  // Someone has saved meanwhile: both are shown, and one of them is taken.
  const both = async (form, path) => {
    const page = new DOMParser().parseFromString(await (await fetch(location.href)).text(), "text/html");
    const kept = (f) => [...f.querySelectorAll("input[type=hidden]")].filter((i) => i.name !== "version").map((i) => `${i.name}=${i.value}`).join("&");
    const same = [...page.querySelectorAll("form")].find((f) => f.getAttribute("action") === form.getAttribute("action") && kept(f) === kept(form));
    const box = document.getElementById("both");
    if (!same || !box) return;
    const value = (f, name) => [...new FormData(f).getAll(name)].join(", ");
    const rows = box.querySelector("tbody");
    rows.replaceChildren();
    for (const name of new Set([...new FormData(form).keys(), ...new FormData(same).keys()])) {
      const [mine, theirs] = [value(form, name), value(same, name)];
      if (name === "version" || mine === theirs) continue;
      const field = form.elements[name], of = field && field.labels && field.labels[0];
      const label = of ? [...of.childNodes].filter((n) => n.nodeType === 3).map((n) => n.textContent).join(" ").trim() || name : name;
      const row = rows.insertRow();
      for (const text of [label, theirs || "nothing", mine || "nothing"]) row.insertCell().textContent = text;
    }
    const version = same.querySelector("input[name=version]");
    box.querySelector("[data-theirs]").onclick = () => { box.close(); location.reload(); };
    box.querySelector("[data-mine]").onclick = () => {
      box.close();
      if (version) form.querySelector("input[name=version]").value = version.value;
      // By the same button as before: a form may have one for each part of it.
      const by = [...form.elements].find((b) => b.getAttribute("formaction") === path);
      if (by) form.requestSubmit(by); else form.requestSubmit();
    };
    box.showModal();
  };
  document.addEventListener("htmx:responseError", (e) => {
    const form = e.detail.elt.closest && e.detail.elt.closest("form");
    if (e.detail.xhr.status === 409 && form && form.querySelector("input[name=version]")) both(form, e.detail.pathInfo.requestPath).catch(() => {});
  });
})();
