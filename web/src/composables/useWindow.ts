import { computed, ref, watch, type ComputedRef, type WatchSource } from 'vue'
import { useRoute, useRouter } from 'vue-router'

export const LAST_CHOICES = ['5m', '15m', '1h', '6h', '24h', '7d'] as const
const UNITS: Record<string, number> = { m: 60, h: 3600, d: 86_400 }

/** A window of time as the address has it. */
export interface TimeWindow {
  from: Date
  to: Date
  /** The length that follows the clock, such as `15m`; nothing when the window stands still. */
  last: string | null
}

/** Seconds of a length such as `15m`; nothing when it is none. */
export function lengthSeconds(text: string): number | null {
  const match = /^(\d{1,4})([mhd])$/.exec(text)
  return match ? Number(match[1]) * UNITS[match[2]!]! : null
}

/** A span of time as the API asks for it. */
export const asQuery = ({ from, to }: { from: Date; to: Date }): { from: string; to: string } => ({
  from: from.toISOString(),
  to: to.toISOString(),
})

/**
 * A window compared with: so much earlier and as long as the one looked at, or from one moment to another, which is as
 * long after it as the one looked at is long unless it is named.
 */
export interface ThenWindow {
  from: Date
  to: Date
  /** By how much it is earlier, such as `7d`; nothing when it stands still. */
  earlier: string | null
}

/** The window that a query names to be compared with `now`; nothing when it names none. */
export function parseThen(query: Record<string, unknown>, now: TimeWindow): ThenWindow | null {
  const text = String(query.then ?? '')
  const length = now.to.getTime() - now.from.getTime()
  const earlier = lengthSeconds(text)
  const from = earlier ? now.from.getTime() - earlier * 1000 : new Date(text).getTime()
  if (Number.isNaN(from)) return null
  const named = earlier ? NaN : new Date(String(query.then_to ?? '')).getTime()
  const to = named > from ? named : from + length
  return { from: new Date(from), to: new Date(to), earlier: earlier ? text : null }
}

/** The window that a query names; the last quarter of an hour when it names none. */
export function parseWindow(query: Record<string, unknown>, now: Date): TimeWindow {
  const from = new Date(String(query.from ?? ''))
  const to = new Date(String(query.to ?? ''))
  if (!Number.isNaN(from.getTime()) && !Number.isNaN(to.getTime())) return { from, to, last: null }
  const last = typeof query.last === 'string' && lengthSeconds(query.last) ? query.last : '15m'
  return { from: new Date(now.getTime() - lengthSeconds(last)! * 1000), to: now, last }
}

/** The window looked at, which is part of the address; one that follows the clock moves with the news given. */
export function useWindow(news: WatchSource<number>): {
  window: ComputedRef<TimeWindow>
  /** What it is compared with. */
  then: ComputedRef<ThenWindow | null>
  /** Stays the same while the window follows the clock. */
  key: ComputedRef<string>
  setLast: (last: string) => void
  setSpan: (from: Date, to: Date) => void
  /** Compares with the window that is so much earlier (`7d`) or begins at a moment; or with none. */
  setThen: (then: string | Date | null) => void
} {
  const route = useRoute()
  const router = useRouter()
  const now = ref(new Date())
  watch([news, () => route.fullPath], () => (now.value = new Date()))
  const window = computed(() => parseWindow(route.query, now.value))
  const then = computed(() => parseThen(route.query, window.value))
  const key = computed(() =>
    window.value.last ? `last ${window.value.last}` : `${+window.value.from} ${+window.value.to}`,
  )

  function go(change: Record<string, string | undefined>): void {
    const query = {
      ...route.query,
      from: undefined,
      to: undefined,
      last: undefined,
      cell: undefined,
      ...change,
    }
    void router.push({ query })
  }
  return {
    window,
    then,
    key,
    setLast: (last) => go({ last }),
    setSpan: (from, to) => go(asQuery({ from, to })),
    setThen: (then) => {
      const text = then instanceof Date ? then.toISOString() : (then ?? undefined)
      void router.push({ query: { ...route.query, then: text, then_to: undefined } })
    },
  }
}
