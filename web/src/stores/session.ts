import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { answer, api, Failure, setCsrfToken, type Schemas } from '../api/client'

const AS_USUAL: Schemas['Preferences'] = { pinned: [], folded_groups: [], order: 'urgency', boards: [] }

/** Who is signed in. */
export const useSession = defineStore('session', () => {
  const current = ref<Schemas['Current'] | null>(null)

  function keep(session: Schemas['Current'] | null): void {
    current.value = session
    setCsrfToken(session?.csrf_token ?? '')
  }

  /** What was chosen for the pages by whoever is signed in; kept with the account. */
  const preferences = computed(() => ({ ...AS_USUAL, ...current.value?.preferences }))

  /** Why what was chosen last could not be kept with the account; nothing where it could. */
  const notKept = ref('')

  /** Chooses something for the pages. It holds at once; where it cannot be kept, it holds until the page is left. */
  async function prefer(change: Partial<Schemas['Preferences']>): Promise<void> {
    if (!current.value) return
    current.value = { ...current.value, preferences: { ...preferences.value, ...change } }
    try {
      await answer(api.PUT('/api/v1/session/preferences', { body: preferences.value }))
      notKept.value = ''
    } catch (error) {
      if (!(error instanceof Failure)) throw error
      notKept.value = error.problem.detail
    }
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

  return { current, preferences, notKept, prefer, resume, signIn, renew, signOut, forget: () => keep(null) }
})
