// Answers under the vehicle: sent one after the other, kept while the server is away, each arriving once. What others
// answer meanwhile comes to the page by itself.
"use strict";
(() => {
  const wait = (ms) => new Promise((r) => setTimeout(r, ms));
  const notice = (text) => {
    const n = document.getElementById("notice");
    if (n) { n.textContent = text; n.hidden = !text; }
  };
  // Without TLS a browser has no randomUUID: the mark only has to be this page's own.
  const mark = () => [...crypto.getRandomValues(new Uint32Array(4))].map((n) => n.toString(16).padStart(8, "0")).join("");

  const queue = [], refused = [];
  let busy = false, away = false;

  const draw = () => {
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
  };
  const begun = (part) => [...part.querySelectorAll("input:not([type=hidden]):not([type=file]), textarea")]
    .some((i) => i.value !== i.defaultValue && !i.closest("[hidden], [data-answered]"));
  const typing = () => begun(document.getElementById("main") || document.body);

  const pump = async () => {
    if (busy) return;
    busy = true;
    let last = null;
    for (let pause = 500; queue.length; ) {
      const e = queue[0];
      const slow = setTimeout(() => { away = true; advance(e); draw(); }, 1500);
      let answer = null;
      // A connection that hangs is let go: with its mark an answer may be sent again.
      const most = AbortSignal.timeout(e.body instanceof FormData ? 180000 : 20000);
      try { answer = await fetch(e.url, { method: "POST", body: e.body, signal: most }); } catch { /* the server is away */ }
      clearTimeout(slow);
      const out = answer && answer.redirected && new URL(answer.url).pathname === "/sign-in";
      if (answer && answer.ok && !out) {
        queue.shift(); pause = 500;
        last = [answer.url, await answer.text(), e];
        draw();
        continue;
      }
      // What the server refuses would be refused again: it is told and not in the way of the rest. Whatever else
      // it answers (a fault, a limit, too slow) may be otherwise in a moment: the answer is kept and sent again.
      if (answer && !out && answer.status >= 400 && answer.status < 500 && ![408, 429].includes(answer.status)) {
        const coded = answer.headers.get("x-problem"), why = coded ? decodeURIComponent(coded) : `status ${answer.status}`;
        queue.shift();
        if (e.stop && e.stop.isConnected && !e.passed) { delete e.stop.dataset.answered; notice(why); } else refused.push(`${e.words}: ${why}`);
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
    if (last && !typing()) show(last[0], last[1]);
    else if (last) notice("All answers have arrived. The question on this page is from before them.");
  };

  const send = (form, url, body, words) => {
    const stop = form.closest("article.stop");
    body.append("mark", mark());
    const entry = { url, body, words, stop };
    if (stop && !form.dataset.pin) stop.dataset.answered = "yes";
    queue.push(entry);
    if (away) { advance(entry); draw(); }
    pump();
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
    body.append("mark", mark());
    body.append("file", file, file.name);
    queue.push({ url: form.getAttribute("action"), body, words: `${file.name}: ${stop ? stop.querySelector("h2").textContent.trim() : ""}`, stop: null });
    notice(`${file.name} is on its way.`);
    pump();
  });
  window.addEventListener("online", () => pump());
  window.addEventListener("beforeunload", (e) => { if (queue.length) e.preventDefault(); });
  const settle = () => { draw(); document.querySelectorAll("[data-insecure]").forEach((p) => { p.hidden = window.isSecureContext; }); };
  document.addEventListener("htmx:afterSettle", settle);
  document.addEventListener("DOMContentLoaded", settle);

  // What others do on the same case.
  setInterval(async () => {
    const l = document.getElementById("live");
    if (!l || document.hidden || busy || queue.length) return;
    let news = null;
    try {
      const answer = await fetch(`${l.dataset.live}?v=${l.dataset.version}`);
      if (answer.status === 200 && !answer.redirected) news = await answer.json();
    } catch { return; }
    if (!news || !l.isConnected || busy) return;
    l.dataset.version = news.version;
    const told = news.steps.map((s) => `${s.person}: ${s.what}`).join(" · ");
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
    notice(asks && typing() ? `${told}. What you are typing stays; this question is from before that.` : told);
  }, 2500);

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
