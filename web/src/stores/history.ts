import { defineStore } from 'pinia'
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { answer, api } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { pageNamed } from '../pages'

/** The history kept of the instance that the address names, fetched once for all that show it on a page. */
export const useHistory = defineStore('history', () => {
  const route = useRoute()
  const { instance } = useInstance()
  const news = useNews('activity', 'contents', 'collection', 'findings')
  /** Nothing where the page has no use for time. */
  const id = computed(() => (pageNamed(route.name)?.usesTime ? instance.value?.instance_id : undefined))
  const { data: history, reload } = useLoaded(id, news, async () =>
    id.value === undefined
      ? null
      : answer(
          api.GET('/api/v1/instances/{instance_id}/history', {
            params: { path: { instance_id: id.value }, query: {} },
          }),
        ),
  )
  /** What load is usual in each cell of it; nothing where none was learnt yet. */
  const { loaded: ranges } = useLoaded(
    () => history.value?.span && [id.value, history.value.span.from, history.value.cell_seconds].join(' '),
    () => [],
    async () => {
      const known = history.value
      if (id.value === undefined || !known?.span) return []
      const query = { figure: 'load', ...known.span, cell_seconds: known.cell_seconds }
      return answer(
        api.GET('/api/v1/instances/{instance_id}/usual-ranges', {
          params: { path: { instance_id: id.value }, query },
        }),
      )
    },
  )
  const usual = computed(() => (ranges.value.state === 'ready' ? (ranges.value.data[0]?.cells ?? []) : []))
  const markers = computed(() =>
    (history.value?.markers ?? []).map((marker) => ({ at: new Date(marker.at), text: marker.text })),
  )
  return { history, usual, markers, reload }
})
