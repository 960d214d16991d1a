import { computed, type ComputedRef } from 'vue'
import { useRoute } from 'vue-router'
import { useRoster, type Instance } from '../stores/roster'

/** The instance that the address names; nothing when there is none of that label. */
export function useInstance(): {
  label: ComputedRef<string>
  instance: ComputedRef<Instance | undefined>
} {
  const route = useRoute()
  const roster = useRoster()
  const label = computed(() => String(route.params.instance ?? ''))
  const instance = computed(() => roster.byLabel.get(label.value))
  return { label, instance }
}
