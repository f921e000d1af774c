import { ref, watchEffect } from 'vue'

export const looks = ['system', 'light', 'dark'] as const
export type Look = (typeof looks)[number]

const storageKey = 'nurvik.look'

/** The colours that a person chose; "system" follows the system's own setting. */
export function useLook() {
  const stored = localStorage.getItem(storageKey)
  const look = ref<Look>(looks.find((l) => l === stored) ?? 'system')
  const system = window.matchMedia('(prefers-color-scheme: dark)')
  const systemDark = ref(system.matches)
  system.addEventListener('change', (event) => (systemDark.value = event.matches))
  watchEffect(() => {
    const dark = look.value === 'dark' || (look.value === 'system' && systemDark.value)
    document.documentElement.classList.toggle('dark', dark)
    localStorage.setItem(storageKey, look.value)
  })
  function next() {
    look.value = looks[(looks.indexOf(look.value) + 1) % looks.length] ?? 'system'
  }
  return { look, next }
}
