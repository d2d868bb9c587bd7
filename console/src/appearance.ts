// Light and dark follow the system, and can be set.
import { defineStore } from 'pinia'
import { dark, light, type Palette } from './colours'

export type Choice = 'system' | 'light' | 'dark'
const system = window.matchMedia('(prefers-color-scheme: dark)')

export const useAppearance = defineStore('appearance', {
  state: () => ({ choice: (localStorage.getItem('appearance') as Choice | null) ?? 'system', systemDark: system.matches }),
  getters: {
    isDark: (s): boolean => s.choice === 'dark' || (s.choice === 'system' && s.systemDark),
    palette(): Palette {
      return this.isDark ? dark : light
    },
  },
  actions: {
    follow() {
      system.addEventListener('change', (e) => (this.systemDark = e.matches))
    },
    set(choice: Choice) {
      this.choice = choice
      localStorage.setItem('appearance', choice)
    },
  },
})
