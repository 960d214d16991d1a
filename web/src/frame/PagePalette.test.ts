import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { defineComponent, h, ref } from 'vue'
import { instance, roster, server, show, stubServer } from '../testing/page'
import { pageActions, useActions } from './pageActions'

stubServer()
const { default: PagePalette } = await import('./PagePalette.vue')
const Holder = defineComponent(() => {
  const open = ref(true)
  return () => h(PagePalette, { open: open.value, 'onUpdate:open': (to: boolean) => (open.value = to) })
})
const input = () => document.querySelector<HTMLInputElement>('[data-test=palette]')!
const goals = () =>
  [...document.querySelectorAll('[data-test=goals] li')].map((goal) =>
    [...goal.children].map((part) => part.textContent!.trim()).join(' '),
  )
async function type(text: string): Promise<void> {
  input().value = text
  input().dispatchEvent(new Event('input'))
  await vi.advanceTimersByTimeAsync(100)
  await flushPromises()
}
const press = async (key: string) => {
  input().dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true, cancelable: true }))
  await flushPromises()
}

describe('the palette', () => {
  beforeEach(() => {
    document.body.innerHTML = ''
    vi.useFakeTimers({ shouldAdvanceTime: true })
    server.answers = {
      'GET /api/v1/session': { name: 'mate', role: 'reader', groups: [], csrf_token: 'kelp' },
      'GET /api/v1/roster': roster(instance(), instance({ instance_id: 2, label: 'quay-9', health: 'act' })),
      'GET /api/v1/search': [
        { kind: 'statement', instance_id: 2, id: '71', title: 'select * from gate_scan' },
        { kind: 'table', instance_id: 1, id: 'passage', title: 'public.gate' },
      ],
    }
  })

  it('goes to a page of the instance chosen, by keyboard alone', async () => {
    const { router } = await show(Holder, '/on/quay-9/diagnose/load?last=6h')
    await type('databse')
    expect(goals()[0]).toBe('Diagnose Databases quay-9')
    await press('Enter')
    expect(router.currentRoute.value.fullPath).toBe('/on/quay-9/diagnose/databases?last=6h')
  })

  it('finds instances, statements and tables, and chooses by arrow keys', async () => {
    const { router } = await show(Holder, '/on/passage-a/diagnose/load')
    await type('gate')
    expect(goals()).toEqual([
      'Statement select * from gate_scan quay-9',
      'Table public.gate passage-a, passage',
    ])
    expect(server.asked.at(-1)!.searchParams.get('text')).toBe('gate')
    await press('ArrowUp')
    await press('ArrowDown')
    await press('Enter')
    expect(router.currentRoute.value.path).toBe('/on/passage-a/tune/tables/passage/public/gate')
  })

  it('does what the page shown can do, while it is shown', async () => {
    const done: string[] = []
    const page = defineComponent((_, { slots }) => {
      useActions(() => [{ title: 'Create crossing', run: () => done.push('created') }])
      return () => slots.default?.()
    })
    const shown = ref(true)
    const both = defineComponent(() => () => [h(Holder), shown.value ? h(page) : null])
    await show(both, '/on/passage-a/diagnose/load')
    await type('create cros')
    expect(goals()[0]).toBe('Action Create crossing')
    await press('Enter')
    expect(done).toEqual(['created'])
    shown.value = false
    await flushPromises()
    expect(pageActions.value).toEqual([])
  })

  it('shows no page that the role may not see, and says when nothing is found', async () => {
    await show(Holder, '/on/passage-a/diagnose/load')
    server.answers['GET /api/v1/search'] = []
    await type('audit trail')
    expect(goals()).toEqual([])
    expect(document.body.textContent).toContain('Nothing is called “audit trail”')
  })
})
