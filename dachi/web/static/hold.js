// A hold counted in and out, by beep and on wish by voice.
import { ring, speak } from "./sound.js";

(() => {
  const wait = (ms) => new Promise((done) => setTimeout(done, ms));

  document.querySelectorAll(".hold").forEach((box) => {
    const go = box.querySelector(".hold-go"), out = box.querySelector(".hold-out"), voice = box.querySelector(".hold-voice");
    let turn = 0;
    go.addEventListener("click", async () => {
      const mine = ++turn;
      if (box.classList.contains("running")) { box.classList.remove("running"); out.textContent = ""; return; }
      box.classList.add("running");
      const seconds = Number(box.dataset.hold) || 5;
      const say = (words, pitch, length = 0.15) => { out.textContent = words; ring(pitch, length); if (voice.checked) speak(words); };
      for (const n of ["3", "2", "1"]) {
        say(n, 620);
        await wait(1000);
        if (mine !== turn) return;
      }
      say("hold", 930, 0.4);
      for (let left = seconds - 1; left >= 0; left--) {
        await wait(1000);
        if (mine !== turn) return;
        if (left) out.textContent = `hold ${left}`;
      }
      say("and down", 460, 0.5);
      box.classList.remove("running");
      box.dispatchEvent(new CustomEvent("held", { bubbles: true }));
    });
  });
})();
