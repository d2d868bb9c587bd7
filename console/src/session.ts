// Who is signed in. The session itself is a cookie that scripts cannot read.
import { defineStore } from 'pinia'
import { api, Problem, type WhoAmI } from './api'

export const useSession = defineStore('session', {
  state: () => ({ who: null as WhoAmI | null, asked: false }),
  getters: {
    may: (state) => (right: string) => !!state.who && (state.who.rights.includes(right) || state.who.rights.includes('admin')),
  },
  actions: {
    async ask() {
      try {
        this.who = await api.whoAmI()
      } catch (e) {
        if (!(e instanceof Problem) || e.status !== 401) throw e
        this.who = null
      } finally {
        this.asked = true
      }
    },
    async signIn(token: string) {
      this.who = await api.signIn(token)
      this.asked = true
    },
    async signOut() {
      await api.signOut()
      this.who = null
    },
  },
})
