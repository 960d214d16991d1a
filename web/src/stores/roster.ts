import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { answer, api, Failure, type Problem, type Schemas } from '../api/client'

export type Instance = Schemas['InstanceFigures']

/** All instances under care, and what is new on them. */
export const useRoster = defineStore('roster', () => {
  const instances = ref<Instance[]>([])
  const loaded = ref(false)
  const problem = ref<Problem | null>(null)
  /** Counts news by instance: pages watch the one they show. */
  const news = ref<Record<number, number>>({})
  const byLabel = computed(() => new Map(instances.value.map((instance) => [instance.label, instance])))

  let source: EventSource | null = null
  let waiting: ReturnType<typeof setTimeout> | null = null
  const heard = new Set<number>()

  async function refresh(): Promise<void> {
    try {
      instances.value = await answer(api.GET('/api/v1/instances'))
      loaded.value = true
      problem.value = null
    } catch (error) {
      if (!(error instanceof Failure)) throw error
      problem.value = error.problem
    }
  }

  /** News come in bursts: they are told once every two seconds. */
  function hear(instanceId: number): void {
    heard.add(instanceId)
    waiting ??= setTimeout(() => {
      waiting = null
      for (const id of heard) news.value[id] = (news.value[id] ?? 0) + 1
      heard.clear()
      void refresh()
    }, 2000)
  }

  function open(): void {
    if (source) return
    source = new EventSource('/api/v1/events')
    source.onmessage = (event) => hear((JSON.parse(event.data) as Schemas['Event']).instance_id)
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
      for (const instance of instances.value) hear(instance.instance_id)
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
