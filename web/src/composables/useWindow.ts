import { computed, ref, watch, type ComputedRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useInstance } from './useInstance'

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

/** The window that a query names; the last quarter of an hour when it names none. */
export function parseWindow(query: Record<string, unknown>, now: Date): TimeWindow {
  const from = new Date(String(query.from ?? ''))
  const to = new Date(String(query.to ?? ''))
  if (!Number.isNaN(from.getTime()) && !Number.isNaN(to.getTime())) return { from, to, last: null }
  const last = typeof query.last === 'string' && lengthSeconds(query.last) ? query.last : '15m'
  return { from: new Date(now.getTime() - lengthSeconds(last)! * 1000), to: now, last }
}

/** The window looked at, which is part of the address; a window that follows the clock moves with the news. */
export function useWindow(): {
  window: ComputedRef<TimeWindow>
  key: ComputedRef<string>
  setLast: (last: string) => void
  setSpan: (from: Date, to: Date) => void
} {
  const route = useRoute()
  const router = useRouter()
  const { news } = useInstance()
  const now = ref(new Date())
  watch([news, () => route.fullPath], () => (now.value = new Date()))
  const window = computed(() => parseWindow(route.query, now.value))
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
    key,
    setLast: (last) => go({ last }),
    setSpan: (from, to) => go({ from: from.toISOString(), to: to.toISOString() }),
  }
}
