// Small comforts on every page; nothing here is needed for the work itself.
(() => {
  "use strict";
  const $ = (selector, from = document) => from.querySelector(selector);
  const typing = (target) => target.closest("input, textarea, select, [contenteditable]");

  document.addEventListener("keydown", (event) => {
    if (event.key === "/" && !typing(event.target)) {
      const jump = $("#jump");
      if (jump) { event.preventDefault(); jump.focus(); }
    }
    if (event.key === "?" && !typing(event.target) && $("#help") && !$("#keys")) $("#help").showModal();
    if (event.key === "Escape" && event.target.id === "jump") {
      $("#jump-list").replaceChildren();
      event.target.value = "";
    }
    if (event.key === "Enter" && event.target.id === "jump") {
      const first = $("#jump-list a");
      if (first) { event.preventDefault(); first.click(); }
    }
  });

  // A date is text in one order, said again with its weekday; arrows move it by days and weeks,
  // and the browser's own calendar opens from a button.
  const MONTHS = "jan feb mar apr may jun jul aug sep oct nov dec".split(" ");
  const two = (n) => String(n).padStart(2, "0");
  const readDate = (text) => {
    const iso = text.match(/^(\d{4})-(\d\d)-(\d\d)(?:[T ](\d\d):(\d\d))?/);
    const said = text.match(/^(?:[a-z]+\.?,? +)?(\d{1,2})\.? +([a-z]{3})[a-z]*\.?,? +(\d{4})(?:[ ,at]+(\d{1,2})[:.](\d\d))?$/i);
    // With dots the day comes first everywhere; slashes could be either and are not guessed.
    const dots = text.match(/^(\d{1,2})\. ?(\d{1,2})\. ?(\d{4})(?:[ ,at]+(\d{1,2})[:.](\d\d))?$/i);
    const [y, m, d, h, min] = dots ? [dots[3], dots[2] - 1, dots[1], dots[4], dots[5]] : iso ? [iso[1], iso[2] - 1, iso[3], iso[4], iso[5]]
      : said ? [said[3], MONTHS.indexOf(said[2].toLowerCase()), said[1], said[4], said[5]] : [];
    if (y === undefined || m < 0) return null;
    const at = new Date(+y, m, +d, +(h ?? 12), +(min ?? 0));
    return at.getMonth() === m && at.getDate() === +d ? at : null;
  };
  const writeDate = (at, time) => `${at.getDate()} ${at.toLocaleString("en-GB", { month: "short" }).slice(0, 3)} ${at.getFullYear()}`
    + (time ? `, ${two(at.getHours())}:${two(at.getMinutes())}` : "");
  const sayDate = (input) => {
    const at = readDate(input.value.trim());
    const said = document.getElementById(`${input.id}-said`);
    const days = at && Math.round((new Date(at).setHours(12) - new Date().setHours(12, 0, 0, 0)) / 864e5);
    const away = { "-1": "yesterday", 0: "today", 1: "tomorrow" }[days] ?? (days < 0 ? `${-days} days ago` : `in ${days} days`);
    said.textContent = at ? `${at.toLocaleString("en-GB", { weekday: "long" })}, ${away}`
      : input.value.trim() ? "Write it as 27 Nov 2026 or 2026-11-27" : "";
  };
  const datesIn = (root) => root.querySelectorAll("input[data-date]").forEach((input) => {
    if (input.dataset.ready) return;
    input.dataset.ready = "1";
    const time = input.dataset.date === "time";
    const native = input.parentElement.querySelector(".date-native");
    const button = input.parentElement.querySelector(".date-pick");
    const put = (at) => { input.value = writeDate(at, time); sayDate(input); };
    sayDate(input);
    input.addEventListener("input", () => sayDate(input));
    input.addEventListener("keydown", (event) => {
      const step = { ArrowUp: 1, ArrowDown: -1, PageUp: 7, PageDown: -7 }[event.key];
      const at = readDate(input.value.trim()) ?? (input.value.trim() ? null : new Date());
      if (!step || !at) return;
      event.preventDefault();
      at.setDate(at.getDate() + step);
      put(at);
    });
    if (!native.showPicker) return;
    button.hidden = false;
    button.addEventListener("click", () => {
      const at = readDate(input.value.trim());
      const day = at && `${at.getFullYear()}-${two(at.getMonth() + 1)}-${two(at.getDate())}`;
      native.value = day ? (time ? `${day}T${two(at.getHours())}:${two(at.getMinutes())}` : day) : "";
      native.showPicker();
    });
    native.addEventListener("input", () => { const at = readDate(native.value); if (at) put(at); });
  });
  datesIn(document);
  document.addEventListener("htmx:afterSettle", (event) => datesIn(event.target));

  // What was typed and not sent is there again after looking elsewhere; it ends with its form's
  // sending, which the page answers without the field.
  const drafts = [...document.querySelectorAll("[data-draft]")];
  for (const field of drafts) {
    const key = `dachi-draft-${field.dataset.draft}`;
    if (!field.value) field.value = sessionStorage.getItem(key) ?? "";
    field.addEventListener("input", () => sessionStorage.setItem(key, field.value));
  }
  const settled = document.querySelector("[data-settled]");
  if (settled) sessionStorage.removeItem(`dachi-draft-${settled.dataset.settled}`);

  // Links for somebody else are copied or handed to whatever this device shares with.
  document.addEventListener("click", async (event) => {
    const button = event.target.closest("[data-copy], [data-share]");
    if (!button) return;
    const said = button.closest(".link-out").querySelector("[role=status]");
    const link = button.dataset.copy ?? button.dataset.share;
    try {
      if (button.dataset.share) { await navigator.share({ url: link, title: button.dataset.title }); return; }
      await copy(link);
      said.textContent = "Copied.";
    } catch (error) {
      if (error.name !== "AbortError") said.textContent = "It could not be copied here: mark the address and copy it by hand.";
    }
  });
  // Without encryption a browser offers no clipboard: the older way then.
  async function copy(text) {
    if (navigator.clipboard) { await navigator.clipboard.writeText(text); return; }
    const box = document.createElement("textarea");
    box.value = text; box.className = "visually-hidden";
    document.body.append(box); box.select();
    const done = document.execCommand("copy");
    box.remove();
    if (!done) throw new Error("no clipboard");
  }
  if (navigator.share) document.querySelectorAll("[data-share]").forEach((b) => { b.hidden = false; });

  // Up and down go from person to person on Today.
  document.addEventListener("keydown", (event) => {
    if ((event.key !== "ArrowDown" && event.key !== "ArrowUp") || typing(event.target)) return;
    const acts = [...document.querySelectorAll(".people-first .btn-go, .day-act")];
    if (!acts.length) return;
    const at = acts.indexOf(document.activeElement);
    const next = at < 0 ? 0 : at + (event.key === "ArrowDown" ? 1 : -1);
    if (acts[next]) { event.preventDefault(); acts[next].focus(); }
  });

  $("#help-open")?.addEventListener("click", () => $("#help").showModal());

  // On a narrow screen the path is one line: where one stands comes into sight.
  const here = $(".path .here");
  if (here) {
    const path = here.closest(".path");
    path.scrollLeft = here.getBoundingClientRect().left - path.getBoundingClientRect().left - 24;
  }

  // A form is sent once, however often its button is pressed.
  document.addEventListener("submit", (event) => {
    const form = event.target;
    if (event.defaultPrevented || form.method !== "post" || form.hasAttribute("hx-post")) return;
    if (form.dataset.sent) { event.preventDefault(); return; }
    form.dataset.sent = "1";
    setTimeout(() => delete form.dataset.sent, 8000);
  });
  window.addEventListener("pageshow", () => {
    document.querySelectorAll("form[data-sent]").forEach((form) => delete form.dataset.sent);
  });

  // The sheet of shots: empty places choose where the next photograph goes.
  document.querySelectorAll(".empty-shot").forEach((button) => {
    button.addEventListener("click", () => {
      const [side, mode, number] = button.dataset.place.split("|");
      for (const [name, value] of Object.entries({ side, mode, number })) {
        const radio = $(`#upload [name="${name}"][value="${value}"]`);
        if (radio) radio.checked = true;
      }
      document.querySelectorAll(".empty-shot.chosen").forEach((b) => b.classList.remove("chosen"));
      button.classList.add("chosen");
      $("#photo").focus();
      $("#taker-head").scrollIntoView({ block: "nearest" });
    });
  });

  // On a phone the list of stations opens on a touch: the next shot comes first.
  const runBox = $("#run-box");
  if (runBox && matchMedia("(max-width: 800px)").matches) runBox.open = false;

  $("#print")?.addEventListener("click", () => print());
  // Paper is light, whatever the screen is.
  const root = document.documentElement, theme = root.dataset.bsTheme;
  // On paper every day of a plan is open.
  let folded = [];
  addEventListener("beforeprint", () => {
    root.dataset.bsTheme = "light";
    folded = [...document.querySelectorAll("details.plan-day:not([open])")];
    for (const day of folded) day.open = true;
  });
  addEventListener("afterprint", () => {
    root.dataset.bsTheme = theme;
    for (const day of folded) day.open = false;
  });

  // The chart: a ring's numbers and photograph, by pointer or by tabbing to it.
  const detail = $("#ring-detail");
  if (detail) {
    const box = $("#chart");
    const show = (event) => {
      const ring = event.target.closest(".c-session");
      if (!ring) return;
      $("figcaption", detail).textContent = ring.getAttribute("aria-label");
      const picture = $("img", detail);
      picture.hidden = !ring.dataset.photo;
      if (ring.dataset.photo) { picture.src = ring.dataset.photo; picture.alt = ""; }
      const at = ring.getBoundingClientRect(), own = box.getBoundingClientRect();
      detail.hidden = false;
      const left = at.left - own.left + (at.left - own.left > own.width / 2 ? -240 : 30);
      detail.style.left = `${Math.max(6, Math.min(left, own.width - 226))}px`;
    };
    const hide = (event) => { if (event.target.closest(".c-session")) detail.hidden = true; };
    box.addEventListener("pointerover", show); box.addEventListener("focusin", show);
    box.addEventListener("pointerout", hide); box.addEventListener("focusout", hide);
    // Arrows walk along a line, so that years of rings need no tabbing.
    box.addEventListener("keydown", (event) => {
      const ring = event.target.closest(".c-session");
      if (!ring || !["ArrowLeft", "ArrowRight"].includes(event.key)) return;
      event.preventDefault();
      let next = ring;
      do { next = event.key === "ArrowRight" ? next.nextElementSibling : next.previousElementSibling; } while (next && !next.classList.contains("c-session"));
      if (next) next.focus();
    });
  }

  // Two photographs: one over the other, with a handle between them.
  const swipe = $("#swipe");
  if (swipe) {
    $("#swipe-row").hidden = false;
    const pair = $("#compare");
    const cut = () => pair.style.setProperty("--cut", `${swipe.value}%`);
    $("#swipe-on").addEventListener("change", (event) => {
      pair.classList.toggle("swiped", event.target.checked);
      swipe.disabled = !event.target.checked;
      cut();
    });
    swipe.addEventListener("input", cut);
  }

  // A marking that was saved needs no copy on this device any more.
  const kept = new URLSearchParams(location.search).get("kept");
  if (kept && !$("#bench")) localStorage.removeItem(`dachi-marks-${kept}`);

  const drop = $("#drop");
  if (drop) {
    const input = $("#photo");
    const camera = $("#photo-camera");
    const say = (files) => { $("#drop-name").textContent = [...files].map((f) => f.name).join(", "); };
    const over = (event) => { event.preventDefault(); drop.classList.add("over"); };
    drop.addEventListener("dragenter", over);
    drop.addEventListener("dragover", over);
    drop.addEventListener("dragleave", () => drop.classList.remove("over"));
    drop.addEventListener("drop", (event) => {
      event.preventDefault();
      drop.classList.remove("over");
      if (event.dataTransfer.files.length) { input.files = event.dataTransfer.files; input.dispatchEvent(new Event("change")); }
    });
    input.addEventListener("change", () => { camera.value = ""; say(input.files); });
    camera.addEventListener("change", () => { if (camera.files.length) { input.value = ""; say(camera.files); } });
    document.addEventListener("htmx:sendError", () => {
      $("#taker-notice").innerHTML = '<div class="notice notice-retake" role="alert">The connection was lost. The photograph is still chosen here. <button type="button" class="btn btn-quiet btn-sm" id="send-again">Send it again</button></div>';
      $("#send-again").addEventListener("click", () => $("#upload").requestSubmit());
    });
  }

  // What was read and not answered yes is answered no by one tap.
  document.querySelectorAll("[data-rest-no]").forEach((button) => {
    button.hidden = false;
    button.addEventListener("click", () => {
      for (const ask of button.closest(".intake").querySelectorAll(".ask")) {
        if (!ask.querySelector('.ask-row input:checked')) ask.querySelector('.ask-row input[value="no"]').checked = true;
      }
    });
  });

  // A photograph that is chosen or dropped is sent: there is nothing else to decide.
  document.querySelectorAll("[data-sends]").forEach((input) => {
    input.addEventListener("change", () => { if (input.files.length) input.form.requestSubmit(); });
  });
})();
