import { defineStore } from 'pinia'

import { api, got, ProblemError, type Schemas } from '../../api/client'

type Permission = Schemas['Permission']

export const useSession = defineStore('session', {
  state: () => ({ me: null as Schemas['Me'] | null, asked: false }),
  getters: {
    /** Whether whoever is signed in has a permission. */
    may: (state) => (permission: Permission) => state.me?.permissions.includes(permission) ?? false,
  },
  actions: {
    async recall() {
      if (this.asked) return
      try {
        this.me = await got(api.GET('/api/v1/session'))
      } catch (error) {
        if (!(error instanceof ProblemError) || error.problem.status !== 401) throw error
      }
      this.asked = true
    },
    async signIn(name: string, password: string) {
      this.me = await got(api.POST('/api/v1/session', { body: { name, password } }))
      this.asked = true
    },
    async signOut() {
      await api.DELETE('/api/v1/session')
      this.me = null
      sessionStorage.clear()
    },
  },
})
