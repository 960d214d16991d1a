import { computed, type ComputedRef } from 'vue'
import { useRoute, type LocationQueryRaw, type RouteLocationRaw } from 'vue-router'
import { useInstance } from '../composables/useInstance'
import { entryOf, needsInstance, pageNamed, type Page } from '../pages'
import { useRoster } from '../stores/roster'

/** What a way keeps of the address: the time chosen, and how it is written. */
const KEPT = ['from', 'to', 'last', 'then', 'zone'] as const

/** Ways to pages that keep to the instance and the time chosen. */
export function useLinks(): {
  /** The page shown. */
  page: ComputedRef<Page | undefined>
  /** To a page; one of an instance goes to the instance chosen, or to the first. */
  to: (page: Page) => RouteLocationRaw
  /** The page shown, on another instance; its list where it shows a single thing of this one. */
  on: (label: string) => RouteLocationRaw
} {
  const route = useRoute()
  const roster = useRoster()
  const page = computed(() => pageNamed(route.name))
  const { label } = useInstance()
  // What else an address says, such as the order of a table, changes no way: links are not looked at anew for it.
  const time = computed<LocationQueryRaw>((before) =>
    before && KEPT.every((key) => before[key] === route.query[key])
      ? before
      : Object.fromEntries(KEPT.map((key) => [key, route.query[key]])),
  )

  function to(target: Page): RouteLocationRaw {
    if (!needsInstance(target)) return { name: target.name, query: { zone: time.value.zone } }
    const instance = label.value || roster.instances[0]?.label
    return instance ? { name: target.name, params: { instance }, query: time.value } : { name: 'instances' }
  }
  function on(label: string): RouteLocationRaw {
    const entry = entryOf(page.value)
    const name = entry && needsInstance(entry) ? entry.name : 'load'
    return { name, params: { instance: label }, query: time.value }
  }
  return { page, to, on }
}
