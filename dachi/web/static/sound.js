// A tone and a voice, for holds and for the player. Sound needs a touch first, which a button is.
let context = null;

export function ring(pitch, length = 0.5) {
  try {
    context = context || new AudioContext();
    const tone = context.createOscillator(), loud = context.createGain();
    tone.frequency.value = pitch;
    loud.gain.setValueAtTime(0.16, context.currentTime);
    loud.gain.exponentialRampToValueAtTime(0.001, context.currentTime + length);
    tone.connect(loud).connect(context.destination);
    tone.start(); tone.stop(context.currentTime + length);
  } catch { /* no sound on this device: the numbers are on the screen */ }
}

export function speak(words) {
  if (!("speechSynthesis" in window)) return;
  const said = new SpeechSynthesisUtterance(words);
  said.lang = "en";
  speechSynthesis.cancel();
  speechSynthesis.speak(said);
}
