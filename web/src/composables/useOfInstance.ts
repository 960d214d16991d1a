import { toRef } from 'vue'
import { useLoaded } from './useLoaded'

/** What a part of a page asks of its instance: once it is shown, and anew with each piece of news. */
export function useOfInstance<T>(
  props: { readonly instance: number; readonly news: number },
  ask: (path: { instance_id: number }) => Promise<T>,
) {
  return useLoaded(
    () => String(props.instance),
    toRef(props, 'news'),
    () => ask({ instance_id: props.instance }),
  )
}
