import { computed, type ComputedRef } from 'vue'
import { useRoster, type News } from '../stores/roster'
import { useInstance } from './useInstance'

/** Counts news of these kinds on the instance that the address names: what shows them watches it. */
export function useNews(...kinds: News[]): ComputedRef<number> {
  const roster = useRoster()
  const { instance } = useInstance()
  return computed(() => {
    const heard = instance.value ? roster.news[instance.value.instance_id] : undefined
    return kinds.reduce((sum, kind) => sum + (heard?.[kind] ?? 0), 0)
  })
}
