import { useDocumentVisibility, useIntervalFn } from '@vueuse/core'
import { ref, watch, type Ref } from 'vue'

/** How often a page that shows what goes on just now asks anew. */
const EVERY_MS = 2000

/**
 * A tick for pages that read a server while somebody looks: every two seconds, unless the page is hidden or somebody
 * froze it to look at what it shows.
 */
export function useLive(): { tick: Readonly<Ref<number>>; isFrozen: Ref<boolean> } {
  const tick = ref(0)
  const isFrozen = ref(false)
  const visibility = useDocumentVisibility()
  const { pause, resume } = useIntervalFn(() => tick.value++, EVERY_MS)
  watch([isFrozen, visibility], () => {
    if (isFrozen.value || visibility.value === 'hidden') pause()
    else {
      tick.value++
      resume()
    }
  })
  return { tick, isFrozen }
}
