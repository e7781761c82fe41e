// Keeps the screen on while something runs. Where the browser grants no wake lock (pages without
// https), a silent moving picture behind the page does: browsers keep the screen on for those.
let wanted = false, lock = null, film = null, beat = 0;

async function ask() {
  try {
    lock = await navigator.wakeLock.request("screen");
    lock.addEventListener("release", () => { lock = null; });
  } catch { lock = null; }
  return Boolean(lock);
}

function roll() {
  const canvas = document.createElement("canvas");
  canvas.width = canvas.height = 16;
  const paint = canvas.getContext("2d");
  const draw = () => { paint.fillStyle = ++n % 2 ? "#808080" : "#818181"; paint.fillRect(0, 0, 16, 16); };
  let n = 0;
  draw();
  film = document.createElement("video");
  film.className = "awake";
  film.muted = true; film.playsInline = true; film.tabIndex = -1;
  film.setAttribute("aria-hidden", "true");
  film.srcObject = canvas.captureStream(2);
  document.body.append(film);
  beat = setInterval(draw, 500);
  film.play().catch(() => {});
}

export async function stayAwake() {
  wanted = true;
  if (lock || film) return;
  const granted = navigator.wakeLock && await ask();
  if (!wanted) letSleep();
  else if (!granted && !film) roll();
}

export function letSleep() {
  wanted = false;
  lock?.release?.();
  lock = null;
  clearInterval(beat);
  if (film) { film.srcObject = null; film.remove(); film = null; }
}
