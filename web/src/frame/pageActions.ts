import { computed, onScopeDispose, shallowReactive, type ComputedRef } from 'vue'

/** Something that the page shown can do, for the palette. */
export interface PageAction {
  title: string
  run: () => void
}

/** By whoever offers them: the page, and the tables on it. */
const offered = shallowReactive(new Map<symbol, ComputedRef<PageAction[]>>())

/** What can be done now. */
export const pageActions = computed(() => [...offered.values()].flatMap((actions) => actions.value))

/** Offers actions in the palette while whoever calls this is shown. */
export function useActions(actions: () => PageAction[]): void {
  const own = Symbol('actions')
  offered.set(own, computed(actions))
  onScopeDispose(() => offered.delete(own))
}
