// A folder of photographs goes up one by one, so that each is kept as soon as it is there.
(() => {
  "use strict";
  const input = document.getElementById("folder");
  if (!input) return;
  const state = document.getElementById("folder-state");
  const token = document.querySelector('meta[name="csrf-token"]').content;
  const say = (words, bad) => {
    const line = document.createElement("p");
    line.className = bad ? "notice notice-retake" : "field-help";
    line.textContent = words;
    return line;
  };
  const PICTURE = /\.(jpe?g|png|webp|hei[cf])$/i;

  // What is dropped may be a folder with folders in it.
  async function inside(entry) {
    if (entry.isFile) return [await new Promise((done, fail) => entry.file(done, fail))];
    const reader = entry.createReader(), found = [];
    for (;;) {
      const some = await new Promise((done, fail) => reader.readEntries(done, fail));
      if (!some.length) break;
      for (const one of some) found.push(...await inside(one));
    }
    return found.filter((f) => f.type.startsWith("image/") || PICTURE.test(f.name));
  }
  document.getElementById("drop")?.addEventListener("drop", async (event) => {
    const entries = [...event.dataTransfer.items].map((i) => i.webkitGetAsEntry?.()).filter(Boolean);
    const plain = [...event.dataTransfer.files], folders = entries.some((e) => e.isDirectory);
    if (plain.length < 2 && !folders) return;
    event.preventDefault(); event.stopImmediatePropagation();
    event.currentTarget.classList.remove("over");
    const files = folders ? [] : plain;
    if (folders) for (const entry of entries) files.push(...await inside(entry));
    if (files.length) takeIn(files); else state.replaceChildren(say("There is no picture in that folder.", true));
  }, true);
  input.addEventListener("change", () => {
    const files = [...input.files].filter((f) => f.type.startsWith("image/") || PICTURE.test(f.name));
    if (files.length) takeIn(files);
    else if (input.files.length) state.replaceChildren(say("There is no picture in that folder.", true));
  });

  async function takeIn(files) {
    const problems = [];
    let kept = 0;
    const bar = document.createElement("progress");
    bar.max = files.length; bar.value = 0; bar.setAttribute("aria-label", "Photographs taken in");
    for (const [i, file] of files.entries()) {
      state.replaceChildren(say(`${i + 1} of ${files.length}: ${file.name}`), bar);
      const body = new FormData();
      body.append("csrf_token", token);
      body.append("photo", file);
      for (let tries = 0; ; tries++) {
        try {
          const answer = await fetch(input.dataset.to, { method: "POST", body, headers: { "X-Fragment": "1" } });
          if (answer.status === 413) { problems.push(`${file.name}: the file is too large; photographs up to 50 MB are taken.`); break; }
          if (answer.status === 401) { state.replaceChildren(say("The session is over. Sign in again, then choose the folder again: what is there already is not taken twice.", true)); return; }
          const found = await answer.json();
          if (found.problem) { state.replaceChildren(say(`${found.problem} ${kept} of ${files.length} are kept.`, true)); return; }
          kept += found.kept;
          problems.push(...found.problems);
          break;
        } catch {
          state.replaceChildren(say(`No connection: waiting at ${i + 1} of ${files.length}. Nothing is lost.`, true), bar);
          await new Promise((done) => setTimeout(done, Math.min(1000 * (tries + 1), 5000)));
        }
      }
      bar.value = i + 1;
    }
    input.value = "";
    if (!problems.length) { location.href = input.dataset.then; return; }
    const list = document.createElement("ul");
    problems.slice(0, 6).forEach((p) => { const li = document.createElement("li"); li.textContent = p; list.append(li); });
    if (problems.length > 6) { const li = document.createElement("li"); li.textContent = `and ${problems.length - 6} more`; list.append(li); }
    const on = document.createElement("a");
    on.className = "btn btn-go"; on.href = input.dataset.then; on.textContent = `Sort the ${kept} that are kept`;
    state.replaceChildren(say(`${problems.length} of ${files.length} were not taken:`, true), list, ...(kept ? [on] : []));
  }
})();
