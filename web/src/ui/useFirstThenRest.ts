import { shallowRef, watch, type Ref } from 'vue'

/** Rows that a screen shows at once, with some to spare. */
const FIRST = 24

/**
 * Rows as they are drawn: what a screen shows at once, and the rest after the next frame, so that an order or a search
 * is seen in half the time. Until then those before stand below it.
 */
export function useFirstThenRest<T>(rows: Ref<readonly T[]>): Ref<readonly T[]> {
  const drawn = shallowRef(rows.value)
  let rest = 0
  watch(rows, (now) => {
    cancelAnimationFrame(rest)
    const isSplit = !document.hidden && now.length > FIRST
    drawn.value = isSplit ? [...now.slice(0, FIRST), ...drawn.value.slice(FIRST, now.length)] : now
    if (isSplit) rest = requestAnimationFrame(() => setTimeout(() => (drawn.value = rows.value)))
  })
  return drawn
}
