/** What this browser was told to do: kept here alone, and nothing that the desk has to know. */
import { ref, watch } from 'vue'

export type Appearance = 'system' | 'light' | 'dark'

const dusk = matchMedia('(prefers-color-scheme: dark)')
const kept = localStorage.getItem('theme')
export const appearance = ref<Appearance>(kept === 'light' || kept === 'dark' ? kept : 'system')
/** Whether a single letter steers a release (WCAG 2.1.4 asks that it can be switched off). */
export const singleKeys = ref(localStorage.getItem('single-keys') !== 'off')

function paint(): void {
  const dark = appearance.value === 'dark' || (appearance.value === 'system' && dusk.matches)
  document.documentElement.setAttribute('data-bs-theme', dark ? 'dark' : 'light')
}

watch(
  appearance,
  (chosen) => {
    if (chosen === 'system') localStorage.removeItem('theme')
    else localStorage.setItem('theme', chosen)
    paint()
  },
  { immediate: true },
)
watch(singleKeys, (on) => localStorage.setItem('single-keys', on ? 'on' : 'off'))
dusk.addEventListener('change', paint)
