import { shallowRef, watch, type Ref } from 'vue'

/** Height of a row that holds one line: no table has lower ones. */
const ROW_HEIGHT = 25
/** What stands above a table on every page. */
const ABOVE = 150
/** Rows that the screen shows at once. */
const atOnce = () => Math.ceil((window.innerHeight - ABOVE) / ROW_HEIGHT)

/**
 * Rows as they are drawn: what a screen shows at once, and the rest after the next frame, so that an order or a search
 * is seen in half the time. Until then those before stand below it.
 */
export function useFirstThenRest<T>(rows: Ref<readonly T[]>): Ref<readonly T[]> {
  const drawn = shallowRef(rows.value)
  let rest = 0
  watch(rows, (now) => {
    cancelAnimationFrame(rest)
    const first = atOnce()
    const isSplit = !document.hidden && now.length > first
    drawn.value = isSplit ? [...now.slice(0, first), ...drawn.value.slice(first, now.length)] : now
    if (isSplit) rest = requestAnimationFrame(() => setTimeout(() => (drawn.value = rows.value)))
  })
  return drawn
}
