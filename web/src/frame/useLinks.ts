import { computed, type ComputedRef } from 'vue'
import { useRoute, type RouteLocationRaw } from 'vue-router'
import { entryOf, needsInstance, pageNamed, type Page } from '../pages'
import { useRoster } from '../stores/roster'

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
  const time = () => {
    const { from, to, last, then, zone } = route.query
    return { from, to, last, then, zone }
  }

  function to(target: Page): RouteLocationRaw {
    if (!needsInstance(target)) return { name: target.name, query: { zone: route.query.zone } }
    const instance = String(route.params.instance ?? '') || roster.instances[0]?.label
    return instance ? { name: target.name, params: { instance }, query: time() } : { name: 'instances' }
  }
  function on(label: string): RouteLocationRaw {
    const entry = entryOf(page.value)
    const name = entry && needsInstance(entry) ? entry.name : 'load'
    return { name, params: { instance: label }, query: time() }
  }
  return { page, to, on }
}
