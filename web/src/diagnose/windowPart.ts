import { useLoaded } from '../composables/useLoaded'
import { asQuery } from '../composables/useWindow'

/** What each part of a page is asked of that shows something of a window. */
export interface WindowPart {
  instanceId: number
  span: { from: Date; to: Date }
  /** Stays the same while the span follows the clock. */
  spanKey: string
  /** Counts up whenever there are newer figures. */
  again: number
}
/** The same of one family. */
export interface FamilyPart extends WindowPart {
  family: string
}

/** Fetches what a part shows: anew where the instance, the window or what else it hangs on is another. */
export function useWindowPart<T>(
  part: WindowPart,
  fetch: (of: { path: { instance_id: number }; query: { from: string; to: string } }) => Promise<T>,
  hangsOn: () => unknown[] = () => [],
) {
  return useLoaded(
    () => [part.instanceId, part.spanKey, ...hangsOn()].join(' '),
    () => part.again,
    () => fetch({ path: { instance_id: part.instanceId }, query: asQuery(part.span) }),
  )
}
