import {
  computed,
  onScopeDispose,
  readonly,
  shallowRef,
  watch,
  type ComputedRef,
  type ShallowRef,
  type WatchSource,
} from 'vue'
import { Failure, type Problem } from '../api/client'

/** What is known of something that is fetched: one state at a time. */
export type Loaded<T> =
  | { state: 'loading' }
  | { state: 'ready'; data: T; at: Date }
  /** The last try failed; figures fetched before it, at that time, are still there to be shown. */
  | { state: 'failed'; problem: Problem; data?: T; at?: Date }

/**
 * Fetches now, when a source changes, and on demand. The latest call wins. While figures of the same
 * `key` are fetched anew, the old ones stay; when the key changes they go.
 */
export function useLoaded<T>(
  key: WatchSource<unknown>,
  again: WatchSource<unknown> | WatchSource<unknown>[],
  fetch: () => Promise<T>,
): {
  loaded: Readonly<ShallowRef<Loaded<T>>>
  /** What is known of it, old or new. */
  data: ComputedRef<T | null>
  reload: () => Promise<void>
} {
  const loaded = shallowRef<Loaded<T>>({ state: 'loading' })
  let latest = 0
  onScopeDispose(() => (latest = -1))

  async function reload(): Promise<void> {
    const mine = ++latest
    try {
      const data = await fetch()
      if (mine === latest) loaded.value = { state: 'ready', data, at: new Date() }
    } catch (error) {
      if (mine !== latest) return
      if (!(error instanceof Failure)) throw error
      const known = loaded.value.state === 'loading' ? {} : { data: loaded.value.data, at: loaded.value.at }
      loaded.value = { state: 'failed', problem: error.problem, ...known }
    }
  }

  watch(
    key,
    () => {
      loaded.value = { state: 'loading' }
      void reload()
    },
    { immediate: true },
  )
  watch(again, () => void reload())
  const data = computed(() => (loaded.value.state === 'loading' ? null : (loaded.value.data ?? null)))
  return { loaded: readonly(loaded) as Readonly<ShallowRef<Loaded<T>>>, data, reload }
}
