/** Three short tones, made here: nothing is fetched. A browser that nobody has touched yet keeps quiet. */
export function sound() {
  const context = new AudioContext();
  const volume = context.createGain();
  volume.gain.value = 0.15;
  volume.connect(context.destination);
  for (let i = 0; i < 3; i++) {
    const tone = context.createOscillator();
    tone.frequency.value = 660 + 110 * i;
    tone.connect(volume);
    tone.start(context.currentTime + 0.22 * i);
    tone.stop(context.currentTime + 0.22 * i + 0.16);
  }
  setTimeout(() => void context.close(), 1500);
}
