// The hand on the picture: dragging, nudging, the loupe. Every number comes from the server.
(() => {
  "use strict";
  const form = document.getElementById("bench");
  if (!form) return;
  const $ = (id) => document.getElementById(id);
  const svg = $("overlay"), photo = $("photo"), stage = $("stage"), strip = $("strip"), loupe = $("loupe"), hint = $("hint");
  const W = Number(form.dataset.width), H = Number(form.dataset.height);
  const marks = [...svg.querySelectorAll(".mark")];
  const store = `dachi-marks-${form.dataset.trial}`;
  const field = (name) => form.elements.namedItem(name);
  const undone = [];
  const undoable = () => { $("undo").hidden = !undone.length; };
  const remembered = (mark) => { const p = at(mark); undone.push([mark, p.x, p.y, stateOf(mark)?.value]); undoable(); };
  let chosen = null, drag = null, loupeOn = true;

  // ---- where things are -------------------------------------------------
  const at = (mark) => ({ x: Number(field(`${mark.dataset.name}-x`).value), y: Number(field(`${mark.dataset.name}-y`).value) });
  const stateOf = (mark) => field(`${mark.dataset.name}-state`);
  const unit = () => { const box = svg.getBoundingClientRect(); return Math.max(W / box.width, H / box.height); };
  const clamp = (v, high) => Math.min(Math.max(v, 0), high);
  const toPicture = (event) => {
    const m = svg.getScreenCTM().inverse();
    const p = new DOMPoint(event.clientX, event.clientY).matrixTransform(m);
    return { x: clamp(p.x, W), y: clamp(p.y, H) };
  };

  function place(mark) {
    const { x, y } = at(mark);
    mark.setAttribute("transform", `translate(${x} ${y}) scale(${unit()})`);
    // Where a mark that was only seen may lie, in 95 of 100.
    const sure = mark.querySelector(".sure"), sd = field(`${mark.dataset.name}-sd`);
    if (sure) sure.setAttribute("r", sd && sd.value ? (2.45 * Number(sd.value)) / unit() : 0);
    drawTile(mark);
  }

  // What of the picture the stage shows, px of the picture.
  function inSight() {
    const m = svg.getScreenCTM().inverse(), box = stage.getBoundingClientRect();
    const a = new DOMPoint(box.left, box.top).matrixTransform(m), b = new DOMPoint(box.right, box.bottom).matrixTransform(m);
    return { left: Math.max(a.x, 0), top: Math.max(a.y, 0), right: Math.min(b.x, W), bottom: Math.min(b.y, H) };
  }

  // Names stand clear of each other and of the fan's number; one that cannot is shown when chosen.
  function declutter() {
    const near = inSight();
    const u = unit(), taken = [...svg.querySelectorAll(".fan-number")].map((t) => { const b = t.getBBox(); return [b.x, b.y, b.x + b.width, b.y + b.height]; });
    const shown = marks.filter((m) => m.querySelector(".leader") && !m.classList.contains("mark-absent"));
    shown.forEach((m) => { const { x, y } = at(m); taken.push([x - 11 * u, y - 11 * u, x + 11 * u, y + 11 * u]); });
    for (const m of shown) {
      const { x, y } = at(m), name = m.querySelector(".name"), leader = m.querySelector(".leader");
      const width = (name.textContent.length * 7 + 6) * u, height = 16 * u;
      let free = null;
      for (const [sx, sy] of [[1, -1], [-1, -1], [1, 1], [-1, 1]]) {
        const x0 = sx > 0 ? x + 24 * u : x - 24 * u - width, y0 = sy < 0 ? y - 38 * u : y + 22 * u;
        const box = [x0, y0, x0 + width, y0 + height];
        if (x0 < near.left || x0 + width > near.right || y0 < near.top || y0 + height > near.bottom) continue;
        if (!taken.some((t) => box[0] < t[2] && box[2] > t[0] && box[1] < t[3] && box[3] > t[1])) { free = { sx, sy, box }; break; }
      }
      m.classList.toggle("crowded", !free);
      const { sx, sy } = free || { sx: x > W * 0.86 ? -1 : 1, sy: -1 };
      if (free) taken.push(free.box);
      name.setAttribute("text-anchor", sx > 0 ? "start" : "end");
      name.setAttribute("x", 25 * sx); name.setAttribute("y", sy < 0 ? -24 : 33);
      leader.setAttribute("d", `M${8 * sx} ${8 * sy} L${22 * sx} ${22 * sy}`);
    }
    // Corners are known by their place: a name that would cover another waits until it is chosen.
    for (const m of marks.filter((c) => c.classList.contains("corner"))) {
      const { x, y } = at(m), name = m.querySelector(".name");
      const x0 = x + Number(name.getAttribute("x")) * u, y1 = y + Number(name.getAttribute("y")) * u;
      const box = [x0, y1 - 14 * u, x0 + (name.textContent.length * 7 + 6) * u, y1 + 3 * u];
      const free = !taken.some((t) => box[0] < t[2] && box[2] > t[0] && box[1] < t[3] && box[3] > t[1]);
      m.classList.toggle("crowded", !free);
      if (free) taken.push(box);
    }
  }

  function drawLines() {
    const point = (name) => at(svg.querySelector(`[data-name="${name}"]`));
    const shown = (id) => !svg.querySelector(`[data-name="mark-${id}"]`).classList.contains("mark-absent");
    svg.querySelectorAll(".bone").forEach((line) => {
      const { a, b } = line.dataset;
      line.style.display = shown(a) && shown(b) ? "" : "none";
      const p = point(`mark-${a}`), q = point(`mark-${b}`);
      line.setAttribute("x1", p.x); line.setAttribute("y1", p.y); line.setAttribute("x2", q.x); line.setAttribute("y2", q.y);
    });
    const corners = ["near_left", "near_right", "far_right", "far_left"].map((c) => point(`corner-${c}`));
    $("mat-outline").setAttribute("points", corners.map((p) => `${p.x},${p.y}`).join(" "));
    const [a, b] = [point("level-a"), point("level-b")], line = $("level-line");
    line.setAttribute("x1", a.x); line.setAttribute("y1", a.y); line.setAttribute("x2", b.x); line.setAttribute("y2", b.y);
  }

  function drawAll() {
    svg.classList.toggle("show-mat", $("mat-on").checked);
    svg.classList.toggle("show-level", $("level-on").checked);
    svg.style.setProperty("--u", unit());
    marks.forEach(place);
    declutter();
    for (const m of svg.querySelectorAll(".corner")) {
      m.setAttribute("tabindex", $("mat-on").checked ? "0" : "-1");
      // Corners are guesses only while they are this photograph's own.
      m.classList.toggle("mark-guess", $("mat-on").checked && stateOf(m).value === "guess");
    }
    svg.querySelectorAll(".level").forEach((m) => m.setAttribute("tabindex", $("level-on").checked ? "0" : "-1"));
    drawLines();
  }

  function set(mark, x, y, remember = true) {
    if (remember) remembered(mark);
    field(`${mark.dataset.name}-x`).value = clamp(x, W).toFixed(1);
    field(`${mark.dataset.name}-y`).value = clamp(y, H).toFixed(1);
    settle(mark);
    place(mark); drawLines(); sayLeft();
    keepHere();
  }

  function settle(mark, as = "placed") {
    const state = stateOf(mark);
    if (!state) return;
    state.value = as;
    mark.classList.remove("mark-guess", "mark-absent", "mark-sticker", "mark-seen", "mark-placed");
    mark.classList.add(`mark-${as}`);
    if (mark === chosen) nearBy(mark);
  }

  function choose(mark, focus = true) {
    if (chosen) chosen.classList.remove("chosen");
    chosen = mark;
    if (!mark) { hint.textContent = ""; return; }
    mark.classList.add("chosen");
    if (focus && document.activeElement !== mark) mark.focus({ preventScroll: true });
    hint.textContent = (mark.getAttribute("aria-label") || "").replace(/^\d+, /, "");
    document.querySelectorAll("#guide .here").forEach((dot) => dot.classList.remove("here"));
    const dot = document.querySelector(`#guide [data-mark="${mark.dataset.name.replace("mark-", "")}"]`);
    if (dot) { dot.classList.add("here"); $("guide-words").textContent = hint.textContent; }
    nearBy(mark);
  }

  // Where the chosen mark goes, drawn from near by in the corner that it is furthest from.
  let always = false;
  function nearBy(mark) {
    const box = $("nearby"), own = mark && box.querySelector(`[data-for="${mark.dataset.name}"]`);
    const open = own && (always || ["guess", "absent", "seen"].includes(stateOf(mark).value));
    box.hidden = !open;
    // On a narrow screen the words stand beside this picture, not over the photograph.
    hint.classList.toggle("hint-short", Boolean(open));
    if (!open) return;
    box.querySelectorAll("figure").forEach((f) => { f.hidden = f !== own; });
    const seen = mark.getBoundingClientRect(), all = stage.getBoundingClientRect();
    box.classList.toggle("at-right", seen.left + seen.width / 2 < all.left + all.width / 2);
  }

  // ---- near and far: the bench looks at the person, not at the floor -----------
  const view = { k: 1, x: 0, y: 0 };
  const MOST_ZOOM = 8;
  function show_at(k, x, y) {
    const box = stage.getBoundingClientRect();
    view.k = Math.min(Math.max(k, 1), MOST_ZOOM);
    view.x = Math.min(0, Math.max(box.width * (1 - view.k), x));
    view.y = Math.min(0, Math.max(box.height * (1 - view.k), y));
    const as = view.k === 1 ? "" : `translate(${view.x}px, ${view.y}px) scale(${view.k})`;
    photo.style.transform = as; svg.style.transform = as;
    stage.classList.toggle("near", view.k > 1);
    drawAll();
  }
  // The point under the finger stays under it.
  function zoom(factor, clientX, clientY) {
    const box = stage.getBoundingClientRect();
    const px = (clientX ?? box.left + box.width / 2) - box.left, py = (clientY ?? box.top + box.height / 2) - box.top;
    const k = Math.min(Math.max(view.k * factor, 1), MOST_ZOOM), by = k / view.k;
    show_at(k, px - (px - view.x) * by, py - (py - view.y) * by);
  }
  const all = () => show_at(1, 0, 0);
  function fit() {
    all();
    const seen = marks.filter((m) => getComputedStyle(m).display !== "none" && !m.classList.contains("mark-absent")).map(at);
    if (seen.length < 2) return;
    const m = svg.getScreenCTM(), box = stage.getBoundingClientRect();
    const xs = seen.map((p) => m.a * p.x + m.e - box.left), ys = seen.map((p) => m.d * p.y + m.f - box.top);
    const [l, r, t, b] = [Math.min(...xs), Math.max(...xs), Math.min(...ys), Math.max(...ys)];
    const room = 0.32 * Math.max(r - l, b - t) + 40;
    const k = Math.min(box.width / (r - l + 2 * room), box.height / (b - t + 2 * room), 3.5);
    if (k < 1.15) return;
    show_at(k, box.width / 2 - k * (l + r) / 2, box.height / 2 - k * (t + b) / 2);
  }
  stage.addEventListener("wheel", (event) => {
    event.preventDefault();
    zoom(Math.exp(-event.deltaY * 0.0016), event.clientX, event.clientY);
  }, { passive: false });
  // Two fingers pinch and move; one on nothing moves the picture while it is near.
  const fingers = new Map();
  let pan = null;
  stage.addEventListener("pointerdown", (event) => {
    fingers.set(event.pointerId, event);
    if (fingers.size === 2) { if (drag) { drag.mark.classList.remove("dragging"); drag = null; } pan = null; }
    else if (fingers.size === 1 && !drag && !picking && view.k > 1 && !event.target.closest(".mark")) pan = event;
  });
  stage.addEventListener("pointermove", (event) => {
    if (!fingers.has(event.pointerId)) return;
    const before = fingers.get(event.pointerId);
    fingers.set(event.pointerId, event);
    if (fingers.size === 2) {
      const [a, b] = [...fingers.values()];
      const other = a.pointerId === event.pointerId ? b : a;
      const was = Math.hypot(before.clientX - other.clientX, before.clientY - other.clientY);
      const now = Math.hypot(event.clientX - other.clientX, event.clientY - other.clientY);
      zoom(now / Math.max(was, 1), (event.clientX + other.clientX) / 2, (event.clientY + other.clientY) / 2);
      show_at(view.k, view.x + (event.clientX - before.clientX) / 2, view.y + (event.clientY - before.clientY) / 2);
    } else if (pan && !drag) {
      show_at(view.k, view.x + event.clientX - before.clientX, view.y + event.clientY - before.clientY);
    }
  });
  for (const end of ["pointerup", "pointercancel"]) {
    window.addEventListener(end, (event) => { fingers.delete(event.pointerId); pan = null; });
  }

  // ---- the loupe and the close-ups -----------------------------------------
  // A square of the picture about a mark, with lines that leave the place itself free.
  function magnify(canvas, { x, y }, span, round) {
    const size = canvas.width, scale = photo.naturalWidth / W, ctx = canvas.getContext("2d"), arm = size / 8.5;
    ctx.save();
    ctx.fillStyle = "#000"; ctx.fillRect(0, 0, size, size);
    if (round) { ctx.beginPath(); ctx.arc(size / 2, size / 2, size / 2, 0, 7); ctx.clip(); }
    ctx.drawImage(photo, (x - span / 2) * scale, (y - span / 2) * scale, span * scale, span * scale, 0, 0, size, size);
    for (const [colour, width] of [["#000c", 3.4], ["#ffe9a8", 1.5]]) {
      ctx.strokeStyle = colour; ctx.lineWidth = width * size / canvas.clientWidth;
      ctx.beginPath();
      for (const [dx, dy] of [[-1, 0], [1, 0], [0, -1], [0, 1]]) {
        ctx.moveTo(size / 2 + dx * arm, size / 2 + dy * arm); ctx.lineTo(size / 2 + dx * arm / 4, size / 2 + dy * arm / 4);
      }
      ctx.stroke();
    }
    ctx.restore();
  }
  function look(mark) {
    if (!loupeOn || !mark) { loupe.hidden = true; return; }
    const near = inSight(), p = at(mark);
    loupe.hidden = false;
    loupe.className = p.x < (near.left + near.right) / 2 ? "at-right" : "at-left";
    magnify(loupe, p, (loupe.width / 3.5) * unit(), true);
  }

  // Every mark that was seen and wants a look, side by side, the least sure first: one look, and
  // one touch for each that is not on its joint.
  const closeups = $("closeups"), tiles = new Map();
  let shownAt = 0, span = 0;
  function layOut() {
    const some = wanting().filter((m) => Number(m.dataset.unsure) > 0);
    if (!some.length) return false;
    const sds = some.map((m) => Number(m.dataset.unsure)).sort((a, b) => a - b);
    // About three quarters of a thigh: a joint is known by what lies around it.
    span = Math.min(Math.max(16 * sds[sds.length >> 1], 60), 0.4 * Math.max(W, H));
    closeups.dataset.span = span;
    closeups.style.setProperty("--n", Math.max(some.length, 6));
    for (const mark of some) {
      const tile = $("closeup").content.firstElementChild.cloneNode(true);
      tile.dataset.for = mark.dataset.name;
      tile.querySelector("span").textContent = mark.getAttribute("aria-label").split(":")[0].replace(", ", " ");
      tile.addEventListener("click", (event) => touch(mark, tile, event));
      $("closeups-row").append(tile);
      tiles.set(mark, tile);
    }
    closeups.hidden = false;
    closeups.classList.remove("asks");
    shownAt = performance.now();
    sayLeft();
    return true;
  }
  function drawTile(mark) {
    const tile = tiles.get(mark);
    if (!tile) return;
    magnify(tile.querySelector("canvas"), at(mark), span, false);
    const open = mark.classList.contains("mark-guess");
    tile.classList.toggle("looked", !open);
    tile.setAttribute("aria-label", `${tile.querySelector("span").textContent}: ${open ? "seen by the program. Touch where the joint is, or choose it to move it" : "looked at"}`);
  }
  function touch(mark, tile, event) {
    // By keyboard, or on its name, there is no place: the mark is chosen, arrows move it.
    if (event.detail === 0 || !event.target.closest("canvas")) { choose(mark); look(mark); return; }
    const box = tile.querySelector("canvas").getBoundingClientRect(), p = at(mark);
    const dx = (event.clientX - box.left) / box.width - 0.5, dy = (event.clientY - box.top) / box.height - 0.5;
    // On the crossing it stays and is confirmed.
    if (Math.hypot(dx, dy) < 0.04) { remembered(mark); settle(mark); keepHere(); }
    else set(mark, p.x + dx * span, p.y + dy * span);
    // The next key is meant for the photograph.
    tile.blur();
    drawTile(mark); sayLeft();
    ask(true);
  }
  const openTiles = () => [...tiles.keys()].filter((m) => m.classList.contains("mark-guess"));
  function sayLeft() {
    const left = openTiles();
    $("closeups-said").textContent = left.length
      ? `${left.length === 1 ? "This mark wants" : `These ${left.length} marks want`} a look. Touch the joint in a picture where the cross is off it.`
      : "All looked at.";
    $("take-all").hidden = !left.length;
    $("accept-words").textContent = left.length ? "All right, next photo" : $("accept-words").dataset.plain;
  }
  // A close-up counts as looked at once it was in sight for as long as a glance takes; what was not
  // is asked about, once. Nobody can have looked at what was not yet there.
  const LEAST_LOOK_MS = 500, GLANCE_MS = 450, TICK_MS = 90;
  const glanced = new Map();
  let askedOnce = false;
  setInterval(() => {
    const open = openTiles();
    if (!open.length || document.hidden || !photo.complete) return;
    const seen = open.filter((m) => {
      const box = tiles.get(m).getBoundingClientRect();
      return box.top < innerHeight && box.bottom > 0 && box.left < innerWidth && box.right > 0;
    });
    // One look at a time: what lies side by side shares it, the first first.
    const now = seen.find((m) => (glanced.get(m) ?? 0) < GLANCE_MS);
    if (!now) return;
    glanced.set(now, (glanced.get(now) ?? 0) + TICK_MS);
    if (glanced.get(now) >= GLANCE_MS) { tiles.get(now).classList.add("glanced"); sayLeft(); }
  }, TICK_MS);
  const unseen = () => openTiles().filter((m) => (glanced.get(m) ?? 0) < GLANCE_MS);
  function confirmLooked() {
    const left = openTiles();
    if (!left.length) return true;
    if (!photo.complete || performance.now() - shownAt < LEAST_LOOK_MS) return false;
    const hasty = unseen();
    if (hasty.length && !askedOnce) {
      askedOnce = true;
      $("closeups-said").textContent = `Not looked at yet: ${hasty.map((m) => m.dataset.label).join(", ")}. If every cross lies on its joint, accept once more.`;
      closeups.classList.add("asks");
      closeups.scrollIntoView({ block: "nearest" });
      return false;
    }
    left.forEach((m) => settle(m));
    keepHere();
    return true;
  }
  form.addEventListener("submit", (event) => {
    if (event.submitter?.id !== "accept" || confirmLooked()) return;
    event.preventDefault();
  });

  // What wants a look and has no close-up comes under the loupe by itself, the least sure first.
  const wanting = () => marks.filter((m) => m.classList.contains("mark-guess")).sort((a, b) => Number(b.dataset.unsure) - Number(a.dataset.unsure));
  function lookAtNext() {
    const mark = wanting().find((m) => !tiles.has(m));
    if (!mark) return false;
    choose(mark); look(mark);
    return true;
  }

  // Left where they were seen, with the spread they were seen with: the interval grows.
  function takeAll() {
    const some = wanting().filter((m) => Number(m.dataset.unsure) > 0);
    some.forEach((m) => settle(m, "seen"));
    if (some.length) { choose(null); loupe.hidden = true; drawAll(); keepHere(); sayLeft(); }
    // What nothing was seen of wants a hand first; else this is the answer to the photograph.
    if (!lookAtNext() && some.length) form.requestSubmit($("accept"));
    else if (some.length) ask(true);
  }
  strip.addEventListener("click", (event) => { if (event.target.closest("[data-take-all]")) takeAll(); });
  $("take-all").addEventListener("click", takeAll);

  // ---- readings: at most one question under way, always the newest asked last --
  let asking = false, again = false, resting = false, retry = 0;
  async function ask(rest) {
    resting = resting || rest;
    if (asking) { again = true; return; }
    asking = true;
    const body = new FormData(form);
    if (resting) body.append("rest", "1");
    resting = false;
    strip.classList.add("waiting");
    try {
      const answer = await fetch(form.dataset.read, { method: "POST", body, headers: { "X-Fragment": "1" }, redirect: "error" });
      const text = await answer.text();
      if (answer.status === 401) { $("connection").innerHTML = text; const link = document.querySelector("[data-sign-in]"); link.href += `?next=${encodeURIComponent(location.pathname)}`; }
      else if (answer.ok) { $("connection").replaceChildren(); show(text); retry = 0; }
      else $("connection").innerHTML = text;
    } catch {
      $("connection").innerHTML = '<div class="notice notice-retake">No connection. Your marks are kept here; the readings follow when it is back.</div>';
      retry = Math.min(retry + 1, 5);
      resting = resting || rest;
      setTimeout(() => ask(true), 800 * retry);
    } finally {
      asking = false;
      strip.classList.remove("waiting");
      if (again) { again = false; ask(false); }
    }
  }
  function show(text) {
    const page = new DOMParser().parseFromString(text, "text/html");
    $("fan").innerHTML = page.querySelector("[data-part=overlay] svg").innerHTML;
    // What is unfolded stays so while a mark is dragged.
    const open = [...strip.querySelectorAll("details[open]")].map((d) => d.className);
    strip.replaceChildren(page.querySelector("[data-part=strip]"));
    strip.querySelectorAll("details").forEach((d) => { d.open = open.includes(d.className); });
    follow(JSON.parse(page.querySelector("[data-part=moved]")?.dataset.marks || "{}"));
    if (!drag) declutter();
    stand();
  }
  // What decides stands at the photograph too, and on a phone the angle, which the strip is far from.
  function stand() {
    const number = strip.querySelector(".big-number")?.textContent ?? "";
    const said = [...strip.querySelectorAll(".decides .check-retake, .decides .strip-problem, .decides p.check-watch")].map((c) => c.textContent.replace(/\s+/g, " ").trim());
    $("standing").replaceChildren(...[number && ["b", "standing-number", number], ...said.slice(0, 2).map((w) => ["p", "", w])].filter(Boolean).map(([tag, name, words]) => Object.assign(document.createElement(tag), { className: name, textContent: words })));
    // Beside the photograph only what sends it back; the rest stands first in the strip.
    $("standing").classList.toggle("says", Boolean(strip.querySelector(".decides .check-retake, .decides .strip-problem")));
  }
  // Marks of one picture miss together: those nobody has set follow those that somebody has.
  function follow(moved) {
    for (const [id, [x, y]] of Object.entries(moved)) {
      const mark = svg.querySelector(`[data-name="mark-${id}"]`);
      if (!mark || drag?.mark === mark || !["guess", "seen"].includes(stateOf(mark).value)) continue;
      field(`mark-${id}-x`).value = x; field(`mark-${id}-y`).value = y;
      place(mark);
    }
    if (Object.keys(moved).length) { drawLines(); keepHere(); }
  }

  // ---- what survives a lost session or a closed browser --------------------
  function keepHere() {
    const body = {};
    for (const [k, v] of new FormData(form)) if (k !== "csrf_token" && k !== "once_key") body[k] = v;
    localStorage.setItem(store, JSON.stringify(body));
  }
  function bringBack() {
    if (form.dataset.fresh) { localStorage.removeItem(store); return; }
    // What was kept needs no copy here; what was marked since then does, also after a reload.
    if (form.dataset.kept) {
      const name = `dachi-marks-${form.dataset.kept}`;
      try { if (Number(JSON.parse(localStorage.getItem(name)).seen) < Number(form.dataset.keptSeen)) localStorage.removeItem(name); } catch { localStorage.removeItem(name); }
    }
    let body = null;
    try { body = JSON.parse(localStorage.getItem(store)); } catch { body = null; }
    if (!body) return;
    if (body.seen !== form.dataset.seen) { localStorage.removeItem(store); return; }
    for (const [k, v] of Object.entries(body)) {
      const input = field(k);
      if (input && input.type !== "checkbox" && input.type !== "hidden") input.value = v;
      if (k.endsWith("-state") && input) {
        input.value = v;
        const mark = svg.querySelector(`[data-name="${k.slice(0, -6)}"]`);
        if (mark) settle(mark, v);
      }
    }
    $("mat-on").checked = body.mat === "on";
    $("level-on").checked = body.level === "on";
    hint.textContent = "Your unsaved marks are back.";
    ask(true);
  }

  // ---- hands ----------------------------------------------------------------
  let picking = null;
  function pick(to = form.dataset.stickers, words = "Touch the middle of one sticker on the photograph.") {
    picking = to;
    stage.classList.add("picking");
    hint.textContent = words;
  }
  svg.addEventListener("pointerdown", (event) => {
    if (event.button) return;
    const p = toPicture(event);
    if (picking) {
      event.preventDefault();
      $("pick-x").value = p.x.toFixed(1); $("pick-y").value = p.y.toFixed(1);
      if (picking === form.dataset.stickers) localStorage.removeItem(store);
      form.action = picking;
      form.submit();
      return;
    }
    let mark = event.target.closest(".mark");
    if (mark || chosen) {
      // Of overlapping rings the nearest to the finger is meant.
      const near = marks.filter((m) => getComputedStyle(m).display !== "none")
        .map((m) => ({ m, d: Math.hypot(at(m).x - p.x, at(m).y - p.y) })).sort((a, b) => a.d - b.d)[0];
      mark = near && near.d < 30 * unit() ? near.m : mark;
    }
    if (!mark) { choose(null); loupe.hidden = true; return; }
    event.preventDefault();
    choose(mark);
    const from = at(mark);
    remembered(mark);
    drag = { mark, dx: from.x - p.x, dy: from.y - p.y, id: event.pointerId, moved: false };
    svg.setPointerCapture(event.pointerId);
    mark.classList.add("dragging");
    look(mark);
  });
  svg.addEventListener("pointermove", (event) => {
    if (!drag || event.pointerId !== drag.id) return;
    const p = toPicture(event);
    drag.moved = true;
    set(drag.mark, p.x + drag.dx, p.y + drag.dy, false);
    look(drag.mark);
    ask(false);
  });
  const drop = (event) => {
    if (!drag || event.pointerId !== drag.id) return;
    drag.mark.classList.remove("dragging");
    if (drag.moved) ask(true); else { undone.pop(); undoable(); }
    drag = null;
    declutter();
  };
  svg.addEventListener("pointerup", drop);
  svg.addEventListener("pointercancel", drop);
  marks.forEach((mark) => {
    mark.addEventListener("focus", () => { if (!drag) { choose(mark, false); look(mark); } });
  });

  const ARROWS = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] };
  const toggle = (box) => { box.checked = !box.checked; box.dispatchEvent(new Event("change", { bubbles: true })); };
  document.addEventListener("keydown", (event) => {
    if ($("keys").open || event.ctrlKey || event.metaKey || event.altKey) return;
    const inField = event.target.closest("input:not([type=checkbox]), textarea, select, button, a, summary");
    if (inField && !event.target.closest(".mark")) return;
    const step = ARROWS[event.key];
    if (step && chosen) {
      event.preventDefault();
      const k = event.shiftKey ? 10 : 1, p = at(chosen);
      set(chosen, p.x + k * step[0], p.y + k * step[1]);
      look(chosen);
      clearTimeout(nudge); nudge = setTimeout(() => ask(true), 90);
      return;
    }
    if (/^[1-9]$/.test(event.key)) {
      const mark = svg.querySelector(`.mark[aria-label^="${event.key}, "]`);
      if (mark) {
        if (mark.classList.contains("mark-absent")) { settle(mark, "guess"); place(mark); drawLines(); }
        choose(mark); look(mark);
      }
      return;
    }
    switch (event.key) {
      case " ":
        if (chosen) { event.preventDefault(); settle(chosen); drawTile(chosen); sayLeft(); keepHere(); ask(true); lookAtNext(); }
        break;
      case "Enter":
        event.preventDefault();
        if (event.repeat) break;
        // One key takes what is certain, and what lies under the cross of its close-up.
        if (lookAtNext()) hint.textContent = `${wanting().length} to look at. ${hint.textContent}: drag it, or Space where it is right.`;
        else form.requestSubmit($("accept"));
        break;
      case "a": takeAll(); break;
      case "[": $("previous")?.click(); break;
      case "]": $("following")?.click(); break;
      case "m": takeMat(); break;
      case "c": $("camera-same")?.click(); break;
      case "n": $("camera-moved")?.click(); break;
      case "s": if ($("stickers")) $("stickers").click(); else pick(); break;
      case "p": pick(); break;
      case "v": toggle($("level-on")); break;
      case "l": loupeOn = !loupeOn; look(chosen); break;
      case "w": always = !always; nearBy(chosen); break;
      case "z": undo(); break;
      case "+": case "=": zoom(1.3); break;
      case "-": zoom(1 / 1.3); break;
      case "0": if (view.k > 1) all(); else fit(); break;
      case "?": $("keys").showModal(); break;
      case "Escape": choose(null); loupe.hidden = true; document.activeElement.blur(); break;
      default:
    }
  });
  function undo() {
    const last = undone.pop();
    undoable();
    if (!last) return;
    set(last[0], last[1], last[2], false);
    if (last[3]) settle(last[0], last[3]);
    drawTile(last[0]); sayLeft(); choose(last[0]); ask(true);
  }
  $("undo").addEventListener("click", undo);
  let nudge = 0;
  $("pick").addEventListener("click", () => pick());
  $("pick-head")?.addEventListener("click", (event) => pick(event.target.dataset.to, "Touch the middle of the head on the photograph."));
  // An outline that stands out was seen before it is taken; corners from elsewhere are set one by one.
  const takeMat = () => {
    if ($("take-outline") && !$("mat-on").checked) svg.querySelectorAll(".corner").forEach((c) => settle(c));
    toggle($("mat-on"));
  };
  $("take-outline")?.addEventListener("click", () => { if (!$("mat-on").checked) takeMat(); });
  $("keys-open").addEventListener("click", () => $("keys").showModal());
  for (const box of [$("mat-on"), $("level-on")]) {
    box.addEventListener("change", () => {
      if (box.checked) all();
      drawAll(); keepHere(); ask(true);
      if (box.checked) choose(svg.querySelector(box.id === "mat-on" ? ".corner" : ".level"));
    });
  }
  // Typing a number confirms it, the same one too.
  form.querySelector(".numbers").addEventListener("input", (event) => {
    const mark = svg.querySelector(`[data-name="${event.target.name.slice(0, -2)}"]`);
    if (mark) { settle(mark); place(mark); drawLines(); keepHere(); ask(true); }
  });
  // What only an eye can tell is kept as it is told: the checks ask for it.
  for (const told of form.querySelectorAll("[data-tells]")) told.addEventListener("change", () => { keepHere(); form.requestSubmit($("tell")); });
  for (const id of ["facing", "marked"]) $(id)?.addEventListener("change", () => { keepHere(); ask(true); });
  window.addEventListener("resize", all);
  for (const [id, act] of [["zoom-in", () => zoom(1.3)], ["zoom-out", () => zoom(1 / 1.3)], ["zoom-all", () => (view.k > 1 ? all() : fit())]]) $(id).addEventListener("click", act);
  photo.addEventListener("load", () => { shownAt = performance.now(); drawAll(); if (!loupe.hidden) look(chosen); });
  bringBack();
  drawAll();
  stand();
  const beside = form.dataset.looked && layOut();
  if (form.dataset.near) fit();
  if (form.dataset.looked && !beside) lookAtNext();
  // The program is still looking: its marks come by themselves while nobody has begun to mark.
  async function comeBy() {
    if (undone.length || drag || $("mat-on").checked) { hint.textContent = ""; return; }
    try {
      const answer = await fetch(form.dataset.await, { redirect: "error" });
      if (answer.ok && (await answer.json()).looked && !undone.length && !drag) { location.replace(location.pathname); return; }
    } catch { /* Asked again below. */ }
    setTimeout(comeBy, 1200);
  }
  if (form.dataset.await && !localStorage.getItem(store)) { hint.textContent = "Looking for the person…"; setTimeout(comeBy, 800); }
})();
