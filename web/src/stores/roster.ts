import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import { answer, api, Failure, type Problem, type Schemas } from '../api/client'

export type Instance = Schemas['InstanceFigures']
export type News = Schemas['News']

const KINDS: readonly News[] = [
  'activity',
  'statements',
  'figures',
  'contents',
  'log',
  'collection',
  'findings',
  'alarms',
]
/** Kinds of news that the list of all instances shows. */
const LISTED: readonly News[] = ['activity', 'collection', 'findings', 'alarms']

/** All instances under care, and what is new on them. */
export const useRoster = defineStore('roster', () => {
  const instances = shallowRef<Instance[]>([])
  const loaded = ref(false)
  const problem = ref<Problem | null>(null)
  /** Counts news by instance and kind: pages watch what they show. */
  const news = ref<Record<number, Partial<Record<News, number>>>>({})
  const byLabel = computed(() => new Map(instances.value.map((instance) => [instance.label, instance])))

  let source: EventSource | null = null
  let waiting: ReturnType<typeof setTimeout> | null = null
  const heard = new Map<number, Set<News>>()
  /** Up to which moment the list is known; nothing while none of it is. */
  let asOf: string | undefined

  /** Fetches the list: all of it the first time, and after that only lines of which something changed. */
  async function refresh(): Promise<void> {
    try {
      const fetched = await answer(api.GET('/api/v1/roster', { params: { query: { since: asOf } } }))
      const lines = new Map(instances.value.map((instance) => [instance.instance_id, instance]))
      for (const line of fetched.changed) lines.set(line.instance_id, line)
      // One that is seen only now, although nothing of it changed: somebody's groups did.
      if (asOf && fetched.order.some((id) => !lines.has(id))) {
        asOf = undefined
        return refresh()
      }
      asOf = fetched.as_of ?? undefined
      instances.value = fetched.order.flatMap((id) => lines.get(id) ?? [])
      loaded.value = true
      problem.value = null
    } catch (error) {
      if (!(error instanceof Failure)) throw error
      problem.value = error.problem
    }
  }

  /** News come in bursts: they are told once every two seconds. */
  function hear(instanceId: number, kinds: readonly News[]): void {
    const known = heard.get(instanceId) ?? new Set()
    kinds.forEach((kind) => known.add(kind))
    heard.set(instanceId, known)
    waiting ??= setTimeout(() => {
      waiting = null
      const isListed = [...heard.values()].some((kinds) => LISTED.some((kind) => kinds.has(kind)))
      for (const [id, kinds] of heard) {
        const counts = { ...news.value[id] }
        for (const kind of kinds) counts[kind] = (counts[kind] ?? 0) + 1
        news.value[id] = counts
      }
      heard.clear()
      if (isListed) void refresh()
    }, 2000)
  }

  function open(): void {
    if (source) return
    source = new EventSource('/api/v1/events')
    source.onmessage = (event) => {
      const { instance_id, news } = JSON.parse(event.data) as Schemas['Event']
      hear(instance_id, [news])
    }
    source.onopen = () => (problem.value = null)
    source.onerror = () => void refresh()
  }
  function close(): void {
    source?.close()
    source = null
  }

  /**
   * A browser makes but a few connections to a server, and a stream of news takes one for good: a page that
   * nobody sees must not hold any, or further pages would wait for ever. What it missed it catches up on.
   */
  function follow(): void {
    if (document.visibilityState === 'hidden') close()
    else if (!source) {
      open()
      for (const instance of instances.value) hear(instance.instance_id, KINDS)
    }
  }
  function listen(): void {
    document.addEventListener('visibilitychange', follow)
    window.addEventListener('pagehide', close)
    window.addEventListener('pageshow', follow)
    open()
  }
  function stop(): void {
    document.removeEventListener('visibilitychange', follow)
    window.removeEventListener('pagehide', close)
    window.removeEventListener('pageshow', follow)
    close()
  }

  return { instances, byLabel, loaded, problem, news, refresh, listen, stop }
})
