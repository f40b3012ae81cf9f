/** Nothing moves under a pointer that is pressed: between its way down and up, a page that changes would lose the click. */
let waiting: (() => void)[] = []
let pressed = false

function release(): void {
  setTimeout(() => {
    pressed = false
    const all = waiting
    waiting = []
    for (const go of all) go()
  })
}

addEventListener('pointerdown', () => (pressed = true), true)
for (const over of ['pointerup', 'pointercancel']) addEventListener(over, release, true)
addEventListener('blur', release)
addEventListener('pointermove', (event) => pressed && event.buttons === 0 && release(), true) // it was let go elsewhere

/** Wait until no pointer is pressed; what came of its click is on the page by then. */
export function released(): Promise<void> {
  if (!pressed) return Promise.resolve()
  return new Promise((go) => waiting.push(go))
}
