import { computed, type ComputedRef, type ShallowRef } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded, type Loaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { asQuery, useWindow, type TimeWindow } from '../composables/useWindow'

/** Figures of the instance over the window that the address names; all that tell of resources unless some are named. */
export function useCourses(figure?: string): {
  window: ComputedRef<TimeWindow>
  loaded: Readonly<ShallowRef<Loaded<Schemas['Courses']>>>
  reload: () => Promise<void>
  data: ComputedRef<Schemas['Courses'] | null>
  /** When each cell begins. */
  starts: ComputedRef<Date[]>
} {
  const { instance } = useInstance()
  const news = useNews('figures')
  const { window, key } = useWindow(news)
  const id = computed(() => instance.value?.instance_id ?? 0)
  const { loaded, data, reload } = useLoaded(
    () => `${id.value} ${key.value}`,
    news,
    () =>
      answer(
        api.GET('/api/v1/instances/{instance_id}/courses', {
          params: { path: { instance_id: id.value }, query: { ...asQuery(window.value), figure } },
        }),
      ),
  )
  const starts = computed(() => (data.value?.starts ?? []).map((start) => new Date(start)))
  return { window, loaded, reload, data, starts }
}
