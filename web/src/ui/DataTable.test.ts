import { flushPromises } from '@vue/test-utils'
import { describe, expect, it, vi } from 'vitest'
import { defineComponent, h } from 'vue'
import { roster, server, show, stubServer } from '../testing/page'
import type { Column } from './table'

stubServer()
const { default: DataTable } = await import('./DataTable.vue')
interface Row {
  name: string
  size: number
}
const columns: Column<Row>[] = [
  { key: 'name', title: 'name', value: (row) => row.name },
  {
    key: 'size',
    title: 'size',
    number: true,
    value: (row) => row.size,
    text: (row) => `${row.size} B`,
    total: (rows) => `${rows.reduce((sum, row) => sum + row.size, 0)} B`,
  },
  { key: 'quay', title: 'quay', aside: true, value: (row) => `quay ${row.size % 2}` },
]
const rows = Array.from({ length: 60 }, (_, i) => ({ name: `berth-${i}`, size: i }))
const table = (shown: Row[], inPlace = false) =>
  defineComponent(
    () => () =>
      h(
        DataTable<Row>,
        { name: 'berths', rows: shown, columns, rowKey: (row: Row) => row.name, order: '-size', inPlace },
        { empty: () => h('p', 'There is no berth.') },
      ),
  )
async function open(query = '', shown = rows, inPlace = false) {
  server.answers = {
    'GET /api/v1/session': { name: 'mate', role: 'reader', groups: [], csrf_token: 'kelp' },
    'GET /api/v1/roster': roster(),
  }
  return show(table(shown, inPlace), `/watch/instances${query}`)
}
type Wrapper = Awaited<ReturnType<typeof open>>['wrapper']
const cells = (wrapper: Wrapper) => wrapper.findAll('tbody tr').map((row) => row.text())
const button = (wrapper: Wrapper, text: string) =>
  wrapper.findAll('button').find((one) => one.text().startsWith(text))!

describe('a table of data', () => {
  it('draws what a screen shows first and the rest after the next frame', async () => {
    const { wrapper } = await open('', rows, true)
    expect(cells(wrapper).at(0)).toContain('berth-59')
    await button(wrapper, 'name').trigger('click')
    await flushPromises()
    expect(cells(wrapper).slice(0, 24)).not.toContainEqual(expect.stringContaining('berth-59'))
    expect(cells(wrapper)).toHaveLength(50)
    const names = rows.map((row) => row.name).sort(new Intl.Collator('en', { numeric: true }).compare)
    await vi.waitFor(() => {
      expect(cells(wrapper).map((text) => text.split('\u00a0')[0])).toEqual(
        names.slice(0, 50).map((name) => expect.stringContaining(name)),
      )
    })
  })

  it('shows a page of its rows in order, with totals of all', async () => {
    const { wrapper } = await open()
    expect(cells(wrapper)).toHaveLength(50)
    expect(cells(wrapper)[0]).toBe('berth-5959 B')
    expect(wrapper.find('tfoot').text()).toBe('1770 B')
  })

  it('is sorted by its heads, and keeps that in the address', async () => {
    const { wrapper, router } = await open('?last=6h&berths.page=2')
    expect(cells(wrapper)).toHaveLength(10)
    await button(wrapper, 'name').trigger('click')
    await flushPromises()
    expect(router.currentRoute.value.query).toEqual({ last: '6h', 'berths.sort': 'name' })
    expect(wrapper.find('th').attributes('aria-sort')).toBe('ascending')
    expect(cells(wrapper)[1]).toContain('berth-1')
  })

  it('is filtered by column, and says so where nothing passes', async () => {
    const { wrapper, router } = await open('?berths.is.size=>57')
    expect(cells(wrapper)).toEqual(['berth-5959 B', 'berth-5858 B'])
    expect(wrapper.find('.tools').text()).toContain('2 of 60 rows')
    expect(wrapper.find('tfoot').text()).toBe('117 B')
    await wrapper.find('.filters input').setValue('quay')
    await flushPromises()
    expect(wrapper.find('tbody').text()).toContain('No row passes the filters.')
    await button(wrapper, 'Clear filters').trigger('click')
    await flushPromises()
    expect(router.currentRoute.value.query).toEqual({})
  })

  it('says beside the field what is no filter, and keeps what was typed', async () => {
    const { wrapper, router } = await open()
    await button(wrapper, 'Filter').trigger('click')
    const input = wrapper.get('input[aria-label="Filter size"]')
    await input.setValue('many')
    expect(wrapper.get('.filters [role=alert]').text()).toContain('“many” is no filter of a number')
    expect([(input.element as HTMLInputElement).value, cells(wrapper).length]).toEqual(['many', 50])
    expect(router.currentRoute.value.query).toEqual({})
    await input.setValue('>57')
    await flushPromises()
    expect(wrapper.find('.filters [role=alert]').exists()).toBe(false)
    expect(cells(wrapper)).toHaveLength(2)
  })

  it('shows a column that stands aside only where it is chosen', async () => {
    const heads = ({ wrapper }: { wrapper: Wrapper }) =>
      wrapper.findAll('thead th').map((head) => head.text())
    expect(heads(await open()).join()).not.toContain('quay')
    const chosen = await open('?berths.columns=name,quay')
    expect(heads(chosen).join()).toContain('quay')
    expect(cells(chosen.wrapper)[0]).toBe('berth-59quay 1')
  })

  it('shows the columns that the address names, in its order', async () => {
    const { wrapper } = await open('?berths.columns=size')
    expect(wrapper.findAll('th').map((head) => head.text())).toEqual(['size ↓'])
  })

  it('is read by the arrow keys', async () => {
    const { wrapper } = await open()
    document.body.append(wrapper.element)
    const [first, second] = wrapper.findAll('tbody tr')
    await first!.trigger('keydown', { key: 'ArrowDown' })
    expect(document.activeElement).toBe(second!.element)
    await second!.trigger('keydown', { key: 'End' })
    expect(document.activeElement?.textContent).toContain('berth-10')
  })

  it('says what a page wants to say where there are no rows', async () => {
    const { wrapper } = await open('', [])
    expect(wrapper.text()).toBe('There is no berth.')
  })
})

describe('a table whose server sorts and pages', () => {
  const paged: Column<Row>[] = [
    { key: 'name', title: 'name', value: (row) => row.name },
    { key: 'size', title: 'size', number: true, sorts: 'descending', value: (row) => row.size },
  ]
  const shown = (rows: Row[], matching: number, more = {}) =>
    show(
      defineComponent(
        () => () =>
          h(
            DataTable<Row>,
            {
              name: 'berths',
              rows,
              matching,
              columns: paged,
              rowKey: (row: Row) => row.name,
              pageSize: 10,
              one: 'berth',
              ...more,
            },
            { empty: () => h('p', 'There is no berth.'), tools: () => h('input', { id: 'find' }) },
          ),
      ),
      '/watch/instances?berths.page=2',
    )
  it('shows the page that it is given, counts all, and offers what the server can do', async () => {
    const { wrapper, router } = await shown(rows.slice(10, 20), 60)
    expect(cells(wrapper)).toHaveLength(10)
    expect(wrapper.find('.tools').text()).toContain('60 berths')
    expect(button(wrapper, 'Filter')).toBeUndefined()
    expect(button(wrapper, 'name')).toBeUndefined()
    await button(wrapper, 'size').trigger('click')
    await button(wrapper, 'size').trigger('click')
    await flushPromises()
    expect(router.currentRoute.value.query).toEqual({ 'berths.sort': '-size' })
  })

  it('keeps its search where nothing matches, and leads back from a page that is no more', async () => {
    const { wrapper, router } = await shown([], 3)
    expect(wrapper.find('#find').exists()).toBe(true)
    await button(wrapper, 'First page').trigger('click')
    await flushPromises()
    expect(router.currentRoute.value.query).toEqual({})
  })
})
