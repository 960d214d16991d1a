import { useRouter } from 'vue-router'

const VALUE = 'VALUE'

/**
 * Links for lists of hundreds: plain ones, whose addresses are written by a pattern, and which one handler of the whole
 * list follows. The router's own links look at the address anew each, whenever it changes.
 */
export function usePlainLinks(): {
  /** Address of a page with one parameter. */
  hrefOf: (page: string, param: string, value: string) => string
  /** Follows the link that was clicked, unless it is to be opened elsewhere. */
  follow: (event: MouseEvent) => void
} {
  const router = useRouter()
  const patterns = new Map<string, string>()
  function hrefOf(page: string, param: string, value: string): string {
    const pattern = patterns.get(page) ?? router.resolve({ name: page, params: { [param]: VALUE } }).href
    patterns.set(page, pattern)
    return pattern.replace(VALUE, () => encodeURIComponent(value))
  }
  function follow(event: MouseEvent): void {
    const href = (event.target as HTMLElement).closest('a[data-plain]')?.getAttribute('href')
    if (!href || event.button !== 0 || event.ctrlKey || event.metaKey || event.shiftKey || event.altKey)
      return
    event.preventDefault()
    void router.push(href)
  }
  return { hrefOf, follow }
}
