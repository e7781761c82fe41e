// The practice player: counts, breathes, rings. Loaded once, it needs no connection; what was done
// is kept on this device until it has been sent.
import { letSleep, stayAwake } from "./awake.js";
import { ring, speak } from "./sound.js";

(() => {
  "use strict";
  const $ = (id) => document.getElementById(id);

  // ---- what waits to be sent --------------------------------------------------
  const QUEUE = "dachi-practice-queue";
  const queue = () => { try { return JSON.parse(localStorage.getItem(QUEUE)) || []; } catch { return []; } };
  const keepQueue = (all) => localStorage.setItem(QUEUE, JSON.stringify(all));
  let sending = false, again = 0, tell = () => {};
  // What a page of the same person may send: an entry follows its person to a new link.
  const addressed = (q, page) => (q.who === page.dataset.who ? page.dataset.to : q.to);
  async function flush(page, say) {
    tell = say;
    if (sending) return;
    sending = true;
    const refused = new Map();
    try {
      for (;;) {
        const next = queue().find((q) => !refused.has(q.body.once_key));
        if (!next) { tell([...refused.values()].join(" "), !refused.size, refused); return; }
        let answer = null;
        try { answer = await fetch(addressed(next, page), { method: "POST", body: JSON.stringify(next.body), headers: { "Content-Type": "application/json" }, keepalive: true }); } catch { answer = null; }
        // What was added to it meanwhile is another sending of the same session.
        if (answer && answer.ok) { keepQueue(queue().filter((q) => q.body.once_key !== next.body.once_key || q.rev !== next.rev)); again = 0; continue; }
        if (answer && (answer.status === 404 || answer.status === 422)) {
          const found = await answer.json().catch(() => ({}));
          refused.set(next.body.once_key, `The session of ${next.body.started_at.slice(0, 10)} could not be sent. ${found.problem || ""}`);
          continue;
        }
        tell("Kept on this device. It is sent once the connection is back.", false, refused);
        again = Math.min(again + 1, 8);
        setTimeout(() => flush(page, tell), 1000 * again);
        return;
      }
    } finally { sending = false; }
  }
  const home = $("queue");
  if (home) {
    const before = queue().length;
    const say = (words, done, refused) => {
      home.textContent = words;
      if (refused.size && refused.size === queue().length) {
        const away = document.createElement("button");
        away.type = "button"; away.className = "btn btn-quiet btn-sm"; away.textContent = "Put it away";
        away.addEventListener("click", () => { keepQueue(queue().filter((q) => !refused.has(q.body.once_key))); home.textContent = ""; });
        home.append(" ", away);
      }
      if (before && done) location.reload();
    };
    if (before) flush(home, say);
    window.addEventListener("online", () => flush(home, say));
    return;
  }

  const page = $("player");
  if (!page) return;
  const data = JSON.parse($("play-data").textContent);
  const items = data.items;
  const today = new Date();
  const stamp = (d) => `${d.getFullYear()}-${String(d.getMonth() + 1).padStart(2, "0")}-${String(d.getDate()).padStart(2, "0")}T${String(d.getHours()).padStart(2, "0")}:${String(d.getMinutes()).padStart(2, "0")}:${String(d.getSeconds()).padStart(2, "0")}`;
  const STORE = `dachi-play-${data.weekday}-${stamp(today).slice(0, 10)}-${page.dataset.to}-${items.map((i) => i.drill).join("-")}`;
  const newKey = () => Array.from(crypto.getRandomValues(new Uint8Array(12)), (b) => b.toString(16).padStart(2, "0")).join("");

  // run.first: what the first side of the present drill got in each round, so that the other gets
  // the same; run.held: seconds held by drill and side, without the extra round.
  let run = { item: 0, step: 0, at: 0, first: null, done: {}, held: {}, pains: [], swapped: {}, key: newKey(), started: null, ended: false };
  try {
    const kept = JSON.parse(localStorage.getItem(STORE));
    if (kept && !kept.sent && (kept.ended || kept.item < items.length)) run = kept;
  } catch { /* begin anew */ }
  const save = () => localStorage.setItem(STORE, JSON.stringify(run));

  const drillOf = (i) => (run.swapped[i] ? items[i].others[run.swapped[i]].drill : items[i].drill);
  // A side that a pain of this session closed is left out of what comes after it.
  const stepsOf = (i) => {
    const steps = run.swapped[i] ? items[i].others[run.swapped[i]].steps : items[i].steps, shut = run.without?.[i] || [];
    return shut.length ? steps.filter((s) => !s.side || !shut.includes(s.side)) : steps;
  };
  const here = () => stepsOf(run.item)?.[run.step];
  const card = () => data.drills[drillOf(run.item)];
  const worked = (s) => s.kind === "reps" || s.kind === "hold";
  const secondSide = (s) => worked(s) && s.side && !s.extra && run.first && run.first.side !== s.side && run.first.rounds[s.round];

  function target(s) {
    const first = secondSide(s);
    return first ? Math.min(s.seconds, first.seconds) : s.seconds;
  }
  function repsOf(s) { const first = secondSide(s); return first ? Math.min(s.reps, first.reps) : s.reps; }

  // ---- sound and light ----------------------------------------------------------
  const say = (words) => { if ($("voice").checked) speak(words); };
  document.addEventListener("visibilitychange", () => { if (!document.hidden && going) stayAwake(); });

  // ---- drawing -----------------------------------------------------------------
  let drawn = "";
  function figures() { return [...document.querySelectorAll(`[data-figures="${drillOf(run.item)}"] > div`)]; }
  function showFigure(n) {
    const all = figures(), key = `${drillOf(run.item)}-${Math.min(n, all.length - 1)}`;
    if (key === drawn) return;
    drawn = key;
    $("figure").innerHTML = all[Math.min(n, all.length - 1)].innerHTML;
  }
  function remaining() {
    let total = 0;
    items.forEach((_, i) => stepsOf(i).forEach((s, j) => { if (i > run.item || (i === run.item && j >= run.step)) total += s.seconds; }));
    return Math.max(0, total - run.at);
  }
  const whole = items.reduce((sum, _, i) => sum + stepsOf(i).reduce((t, s) => t + s.seconds, 0), 0);

  function draw() {
    const s = here();
    if (!s) return;
    const c = card(), left = Math.max(0, target(s) - run.at);
    $("name").textContent = c.name;
    // At the entry the legs of the side that comes first are named.
    const side = s.side || (s.kind === "enter" && stepsOf(run.item).slice(run.step).find((x) => worked(x) && x.side)?.side) || "";
    $("side").textContent = side ? `${c.legs[side]}${s.extra ? ", one more: the tighter hip" : ""}` : "";
    $("round").textContent = worked(s) ? s.words : "";
    // Figures are drawn for the right; the left is their mirror image.
    $("figure").classList.toggle("mirrored", side === "left");
    $("side").className = `play-side${side ? ` side-${side}` : ""}`;
    $("cue").textContent = c.note ? `${c.note} ${/[.!?]$/.test(c.note) ? "" : "– "}${c.cue}` : c.cue;
    $("feel").textContent = `Right: ${c.feel}. Not right: ${c.not_feel}.`;
    const pair = data.breath_s, into = run.at % pair;
    let scale = 0.6 + 0.4 * (into < pair / 2 ? into / (pair / 2) : 2 - into / (pair / 2));
    let what = "";
    if (s.kind === "enter") {
      $("count").textContent = Math.ceil(left);
      what = c.props.length ? `Get into it. With: ${c.props.join(", ")}${c.prop_cm != null ? `, ${c.prop_cm} cm` : ""}.` : "Get into it.";
      scale = 0.6; showFigure(0);
    } else if (s.kind === "change") {
      $("count").textContent = Math.ceil(left);
      what = `Change: ${c.legs[s.side]}.`;
      scale = 0.6; showFigure(0);
    } else if (s.kind === "ease" || s.kind === "out") {
      $("count").textContent = Math.ceil(left);
      what = `${s.words}.`;
      scale = 0.6; showFigure(s.kind === "out" ? 0 : 1);
    } else if (s.kind === "reps") {
      const n = repsOf(s), now = Math.min(n, Math.floor(run.at / s.rep_s) + 1), part = (run.at % s.rep_s) / s.rep_s;
      $("count").textContent = `${now} of ${n}`;
      what = s.both_ways && now > n / 2 ? "The other way round." : s.both_ways ? "One way round." : "Slowly.";
      scale = 0.6 + 0.4 * (part < 0.5 ? part * 2 : 2 - part * 2);
      showFigure(part < 0.5 ? 0 : 1);
    } else {
      // The second side may be shorter: it does no more than the first one did.
      const breaths = s.breaths && Math.max(1, Math.round(s.breaths * target(s) / s.seconds));
      $("count").textContent = breaths ? `${Math.min(breaths, Math.floor(run.at / pair) + 1)} of ${breaths}` : Math.ceil(left);
      what = s.sinking ? (into < pair / 2 ? "Breathing in: ease out a little." : "Breathing out: sink.") : into < pair / 2 ? "Breathe in." : "Breathe out.";
      showFigure(1);
    }
    if ($("what").textContent !== what) $("what").textContent = what;
    $("breath").style.transform = `scale(${scale.toFixed(3)})`;
    $("count").classList.toggle("long", $("count").textContent.length > 3);
    $("bar").value = whole ? 1 - remaining() / whole : 0;
    const min = remaining() / 60;
    $("left").textContent = min >= 1 ? `${Math.round(min)} min` : `${Math.ceil(remaining())} s`;
    $("next").disabled = Boolean(secondSide(s));
    $("next").textContent = secondSide(s) ? "As long as the other" : { change: "Ready", ease: "Go on", out: "Stay in" }[s.kind] || "Skip";
    const free = !secondSide(s) && !s.extra;
    for (const kind of ["easier", "harder"]) $(kind).hidden = !(free && !run.swapped[run.item] && items[run.item].others[kind] && !closedNow(items[run.item].others[kind].drill));
  }

  // ---- going through it ---------------------------------------------------------
  let going = false, last = 0, ticked = 0;
  function note(s, seconds) {
    if (!worked(s) || seconds <= 0) return;
    const row = run.done[drillOf(run.item)] = run.done[drillOf(run.item)] || { seconds: 0 };
    row.seconds += seconds;
    if (s.side) row[s.side] = (row[s.side] || 0) + seconds;
    if (s.kind !== "hold" || s.extra) return;
    const held = (run.held ||= {})[drillOf(run.item)] ||= {};
    held[s.side || "both"] = (held[s.side || "both"] || 0) + seconds;
    row.hold_s = Math.max(...Object.values(held));
  }
  function announce() {
    const s = here();
    if (!s) return;
    const c = card();
    ring(s.kind === "enter" ? 520 : s.kind === "change" ? 590 : s.side && run.step > 1 ? 780 : 660, 0.7);
    if (s.kind === "change") say(`Change. ${c.legs[s.side]}.`);
    else if (s.words) say(`${s.words}.`);
    else say(s.kind === "enter" ? `${c.name}. ${$("side").textContent}.` : s.side ? `${c.legs[s.side]}.` : c.cue.split(/[.:]/)[0]);
  }
  function onward(cut) {
    const s = here();
    if (worked(s)) {
      const spent = cut ? run.at : target(s);
      if (cut && s.side && !s.extra && !run.first && (s.reps ? run.at < s.rep_s : run.at < 3)) { nextItem(); return; }
      if (s.side && !s.extra && (!run.first || run.first.side === s.side)) {
        const reps = s.reps ? Math.max(1, Math.floor(spent / s.rep_s)) : 0;
        const seconds = s.reps ? reps * s.rep_s : spent;
        run.first = { side: s.side, rounds: { ...run.first?.rounds, [s.round]: { seconds, reps } } };
        note(s, seconds);
      } else note(s, spent);
    } else if (cut && s.kind === "enter") { nextItem(); return; }
    run.step += 1; run.at = 0; ticked = 0;
    if (!here()) { nextItem(); return; }
    draw(); announce(); save();
  }
  // What a pain of this session closes is closed at once, not from tomorrow on.
  const closedSides = (drill) => [...new Set(run.pains.flatMap((p) => data.closes[`${p.place}|${p.kind}`]?.[drill] || []))];
  const closedNow = (drill) => closedSides(drill).length === 2;
  // What is planned on one side only, and that one is closed, is closed as well.
  const nothingLeft = (i) => { const shut = closedSides(drillOf(i)), sides = stepsOf(i).filter(worked).map((s) => s.side).filter(Boolean); return shut.length === 2 || (sides.length > 0 && sides.every((s) => shut.includes(s))); };
  function nextItem() {
    do run.item += 1; while (run.item < items.length && nothingLeft(run.item));
    if (run.item < items.length) (run.without ||= {})[run.item] = closedSides(drillOf(run.item));
    run.step = 0; run.at = 0; run.first = null; ticked = 0;
    save();
    if (run.item >= items.length) { end(true); return; }
    draw(); announce();
  }
  function tick() {
    if (!going) return;
    const now = performance.now(), step = Math.min((now - last) / 1000, 5);
    last = now;
    run.at += step;
    const s = here();
    if (!s) return;
    if (s.kind === "reps") {
      const n = Math.floor(run.at / s.rep_s);
      if (n > ticked) { ticked = n; ring(s.both_ways && n === Math.ceil(repsOf(s) / 2) ? 780 : 440, s.both_ways && n === Math.ceil(repsOf(s) / 2) ? 0.6 : 0.12); }
    }
    if (run.at >= target(s)) onward(false); else draw();
  }
  setInterval(tick, 100);
  setInterval(() => { if (going) save(); }, 2000);
  function go(on) {
    going = on;
    last = performance.now();
    $("pause").textContent = on ? "Pause" : run.started ? "Go on" : "Start";
    if (on) { if (!run.started) { run.started = stamp(new Date()); announce(); } stayAwake(); } else letSleep();
    save();
  }
  $("pause").addEventListener("click", () => go(!going));
  $("next").addEventListener("click", () => onward(true));
  for (const kind of ["easier", "harder"]) $(kind).addEventListener("click", () => {
    run.swapped[run.item] = kind; run.step = 0; run.at = 0; run.first = null;
    draw(); announce(); save();
  });
  document.addEventListener("keydown", (event) => {
    if (event.target.closest("input, textarea, select, button, a")) return;
    if (event.key === " ") { event.preventDefault(); go(!going); }
  });

  // ---- it hurts ------------------------------------------------------------------
  const panel = (name) => { for (const id of ["step", "hurt", "end"]) $(id).hidden = id !== name; $("foot").hidden = name !== "step"; };
  function button(words, act) {
    const b = document.createElement("button");
    b.type = "button"; b.className = "btn btn-quiet"; b.textContent = words;
    b.addEventListener("click", act);
    return b;
  }
  $("hurts").addEventListener("click", () => {
    go(false); panel("hurt"); $("hurt-where").hidden = false;
    $("hurt-say").replaceChildren(); $("hurt-kinds").replaceChildren(); $("hurt-kind-head").hidden = true; $("hurt-back").hidden = false;
    $("hurt-body").hidden = false;
    $("hurt-body").querySelector("[data-place]").focus();
  });
  const ask = (words, choices) => {
    $("hurt-body").hidden = true; $("hurt-where").hidden = true; $("hurt-kind-head").hidden = false; $("hurt-kind-head").textContent = words;
    $("hurt-kinds").replaceChildren(...choices);
    $("hurt-kinds").querySelector("button").focus();
  };
  const kindsOf = (id, words) => ask(`${words[0].toUpperCase()}${words.slice(1)}. What is it like?`, Object.entries(data.kinds).filter(([k]) => k !== "dizzy").map(([k, said]) => button(said, () => told(id, k))));
  function pointed(at) {
    if (at.dataset.kind) { told("elsewhere", at.dataset.kind); return; }
    const id = at.dataset.place, place = data.places[id];
    if (place.parts.length) ask(`${place.words[0].toUpperCase()}${place.words.slice(1)}. Which part of it?`, [...place.parts.map((part) => button(part.words, () => kindsOf(part.id, `${place.words}, ${part.words}`))), button("cannot say", () => kindsOf(id, place.words))]);
    else kindsOf(id, place.words);
  }
  for (const at of $("hurt-body").querySelectorAll("[data-place], [data-kind]")) {
    at.addEventListener("click", () => pointed(at));
    if (at.tagName !== "BUTTON") at.addEventListener("keydown", (event) => { if (event.key === "Enter" || event.key === " ") { event.preventDefault(); event.stopPropagation(); pointed(at); } });
  }
  $("hurt-back").addEventListener("click", () => { panel("step"); draw(); });
  function told(place, kind) {
    const s = here(), at = run.at, drill = drillOf(run.item);
    if (!run.pains.some((p) => p.drill === drill && p.place === place && p.kind === kind)) run.pains.push({ drill, place, kind });
    const leave = (then) => { note(s, worked(s) ? at : 0); then(); };
    $("hurt-body").hidden = true; $("hurt-kinds").replaceChildren(); $("hurt-kind-head").hidden = true; $("hurt-back").hidden = true; $("hurt-where").hidden = true;
    // In a knee anything but a cramp or a leg asleep ends the session: any pain there does.
    const knee = data.places[place]?.knee || place.includes("_knee"), minds = data.minds[kind] && !(knee && kind === "stretch");
    const stop = minds ? null : data.stops[knee ? "knee" : kind];
    const first = document.createElement("p"), second = document.createElement("p");
    first.className = "lead"; first.textContent = minds ? data.minds[kind] : stop || "A dull ache beyond a breathable stretch ends this drill.";
    const easier = data.easier[drill], shut = Boolean(easier) && closedNow(easier);
    second.textContent = minds ? "" : stop ? data.stop_now[knee ? "knee" : kind] : data.eases[drill][shut ? 1 : 0];
    const goesOn = !stop || (!knee && data.may_go_on.includes(kind));
    const later = goesOn ? items.slice(run.item + 1).map((_, n) => run.item + 1 + n).filter(nothingLeft).map(drillOf) : [];
    const half = goesOn ? items.slice(run.item + 1).map((_, n) => run.item + 1 + n).filter((i) => !nothingLeft(i) && closedSides(drillOf(i)).length).map(drillOf) : [];
    const third = document.createElement("p"), names = (all) => [...new Set(all)].map((n) => data.drills[n].name).join(", ");
    third.className = "sub";
    if (later.length) third.textContent = `Left out of the rest, because it loads the same place: ${names(later)}. `;
    if (half.length) third.textContent += `On the other side only: ${names(half)}.`;
    const goOn = (words) => button(words, () => leave(() => { panel("step"); nextItem(); if (run.item < items.length) go(true); }));
    const ways = minds ? [button("Back to this drill", () => { panel("step"); save(); draw(); }), goOn("Leave this drill, go on")]
      : stop ? [button("End the session here", () => leave(() => end(false))), ...(goesOn ? [goOn("It has settled: go on with what spares it")] : [])]
        : [goOn("Leave this drill, go on")];
    $("hurt-say").replaceChildren(first, second, ...ways, third,
      button("A wrong tap: take it back", () => { run.pains = run.pains.filter((p) => p.drill !== drill || p.place !== place || p.kind !== kind); panel("step"); save(); draw(); }));
    $("hurt-say").querySelector("button").className = "btn btn-go";
    save();
  }

  // ---- the end ----------------------------------------------------------------------
  // A session is kept as it happens; what is said at the end only adds to it.
  function entry() {
    const done = Object.entries(run.done).map(([drill, row]) => {
      const found = { drill, ...row }, at = document.querySelector(`.end-drill[data-drill="${drill}"]`);
      if (at) for (const input of at.querySelectorAll("select, input")) {
        const v = input.name === "felt" ? input.value : number(input.value.trim());
        if (v !== "" && v !== null) found[input.name] = v;
      }
      return found;
    });
    return {
      once_key: run.key, started_at: run.started || stamp(new Date()), finished: Boolean(run.finished), done,
      seconds: Object.values(run.done).reduce((t, d) => t + d.seconds, 0),
      felt: document.querySelector('[name="felt"]:checked')?.value ?? null, notes: $("notes").value, pains: run.pains,
      senses: Object.fromEntries([...document.querySelectorAll('[name^="sense-"]:checked')].map((i) => [i.name.slice(6), i.value])),
    };
  }
  const anything = () => run.pains.length > 0 || Object.values(run.done).reduce((t, d) => t + d.seconds, 0) >= 10;
  function keep() {
    if (!anything()) return false;
    run.rev = (run.rev || 0) + 1; save();
    keepQueue([...queue().filter((q) => q.body.once_key !== run.key), { to: page.dataset.to, who: page.dataset.who, rev: run.rev, body: entry() }]);
    return true;
  }
  function sayKept(words, sent) {
    $("kept").textContent = sent ? "It is in your log. " : words;
    if (sent) { const back = document.createElement("a"); back.href = page.dataset.home; back.textContent = "Back to your page"; $("kept").append(back); }
  }
  window.addEventListener("pagehide", () => { if (run.started && !run.ended && keep()) flush(page, () => {}); });

  function end(finished) {
    going = false; run.ended = true; run.finished = finished; save();
    letSleep();
    panel("end");
    if (finished) $("bar").value = 1;
    $("left").textContent = "";
    if (keep()) flush(page, sayKept);
    else { $("kept").textContent = "Nothing was practised, so nothing is logged. "; $("keep").hidden = true; }
    const minutes = Object.values(run.done).reduce((t, d) => t + d.seconds, 0) / 60;
    $("end-head").textContent = finished ? "Well done" : "Enough for today";
    $("end-words").textContent = minutes >= 1 ? `${Math.round(minutes)} minutes of practice.` : "Every session counts.";
    if (finished) ring(880, 1.2);
    $("end-drills").replaceChildren(...Object.keys(run.done).filter((n) => ["hold", "goal", "strength"].includes(data.drills[n].phase)).map((n) => {
      const d = data.drills[n], row = document.createElement("div");
      row.className = "end-drill"; row.dataset.drill = n;
      const label = document.createElement("label"); label.textContent = d.name; label.htmlFor = `felt-${n}`;
      const felt = document.createElement("select"); felt.className = "form-select"; felt.id = `felt-${n}`; felt.name = "felt";
      [["", "as the session"], ["easy", "easy"], ["right", "just right"], ["hard", "hard"]].forEach(([v, w]) => felt.add(new Option(w, v)));
      row.append(label, felt);
      if (d.prop) for (const [name, words] of [["prop_cm", "support, cm"], ["layers", "layers"]]) {
        const l = document.createElement("label"), input = document.createElement("input");
        l.className = "end-prop"; l.textContent = words;
        input.className = "form-control"; input.name = name; input.inputMode = "decimal";
        if (name === "prop_cm" && d.prop_cm != null) input.value = d.prop_cm;
        l.append(input); row.append(l);
      }
      return row;
    }));
    $("end-head").tabIndex = -1; $("end-head").focus();
  }
  const number = (text) => { const v = Number(String(text).replace(",", ".")); return text !== "" && Number.isFinite(v) && v >= 0 && v <= 150 ? v : null; };
  $("keep").addEventListener("click", () => {
    const bad = [...document.querySelectorAll(".end-prop input")].find((i) => i.value.trim() && number(i.value.trim()) === null);
    // In a place of its own: what is said of sending comes and goes meanwhile.
    $("wrong").textContent = bad ? "Give heights in centimetres and layers as numbers, or leave them empty." : "";
    if (bad) { bad.focus(); return; }
    keep();
    $("keep").disabled = true;
    $("kept").textContent = "Adding it…";
    flush(page, (words, sent) => { if (sent) run.sent = true; save(); sayKept(words, sent); });
  });
  $("anew").addEventListener("click", () => { localStorage.removeItem(STORE); location.reload(); });
  window.addEventListener("online", () => flush(page, (words, sent) => { if (run.ended) sayKept(words, sent); }));

  if (!items.length) { $("name").textContent = "There is nothing in this session."; $("foot").hidden = true; return; }
  if (run.ended) end(Boolean(run.finished)); else { draw(); go(false); }
})();
