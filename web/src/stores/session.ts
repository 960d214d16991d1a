import { defineStore } from 'pinia'
import { ref } from 'vue'
import { answer, api, Failure, setCsrfToken, type Schemas } from '../api/client'

/** Who is signed in. */
export const useSession = defineStore('session', () => {
  const current = ref<Schemas['Current'] | null>(null)

  function keep(session: Schemas['Current'] | null): void {
    current.value = session
    setCsrfToken(session?.csrf_token ?? '')
  }

  /** Takes up a session that the browser still has; answers whether there is one. */
  async function resume(): Promise<boolean> {
    if (current.value) return true
    try {
      keep(await answer(api.GET('/api/v1/session')))
      return true
    } catch (error) {
      if (error instanceof Failure) return false
      throw error
    }
  }

  async function signIn(name: string, password: string): Promise<void> {
    keep(await answer(api.POST('/api/v1/session', { body: { name, password } })))
  }

  /** Asks anew who is signed in: what the account may do has changed. */
  async function renew(): Promise<void> {
    keep(await answer(api.GET('/api/v1/session')))
  }

  async function signOut(): Promise<void> {
    await answer(api.DELETE('/api/v1/session'))
    keep(null)
  }

  return { current, resume, signIn, renew, signOut, forget: () => keep(null) }
})
