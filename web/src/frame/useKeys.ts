import { useEventListener } from '@vueuse/core'
import { useRouter } from 'vue-router'
import { PAGES, sees } from '../pages'
import { useSession } from '../stores/session'
import { useLinks } from './useLinks'

/** How long after `g` the key of a page may come, in milliseconds. */
const PATIENCE = 1500

/** Whether keys belong to what is typed into, or to a dialog that is open. */
export function isTyping(target: EventTarget | null): boolean {
  const element = target instanceof Element ? target : null
  return element?.closest('input, textarea, select, [contenteditable], [role=dialog], [role=menu]') != null
}

/** Shortcuts of the frame: `.` searches, `?` tells the shortcuts, Escape closes either, `g` and a letter go to a page. */
export function useKeys(does: { search: () => void; help: () => void; close: () => void }): void {
  const router = useRouter()
  const session = useSession()
  const { to } = useLinks()
  let going = 0

  useEventListener(document, 'keydown', (event: KeyboardEvent) => {
    // A dialog closes itself once it has the focus, which takes it a moment.
    if (event.key === 'Escape') does.close()
    if (event.ctrlKey || event.metaKey || event.altKey || isTyping(event.target)) return
    const isGoing = event.timeStamp - going < PATIENCE
    going = 0
    const page = isGoing ? PAGES.find((page) => page.key === event.key) : undefined
    if (page) {
      if (sees(session.current?.role, page)) void router.push(to(page))
    } else if (event.key === 'g') going = event.timeStamp
    else if (event.key === '.') does.search()
    else if (event.key === '?') does.help()
    else return
    event.preventDefault()
  })
}
