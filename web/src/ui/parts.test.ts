import { flushPromises, mount } from '@vue/test-utils'
import { Modal } from 'ant-design-vue'
import { describe, expect, it, vi } from 'vitest'
import { defineComponent, h, reactive } from 'vue'
import { createMemoryHistory, createRouter } from 'vue-router'
import type { Loaded } from '../composables/useLoaded'
import CopyButton from './CopyButton.vue'
import FormDialog from './FormDialog.vue'
import FormField from './FormField.vue'
import PageState from './PageState.vue'
import ProgressNote from './ProgressNote.vue'
import StatementText from './StatementText.vue'
import { highlighted, isSentence, laidOut } from './statementText'
import { everyPage } from './table'

const problem = { type: 'urn:x', title: 'Away', status: 503, detail: 'The repository is away.', errors: [] }
const state = (loaded: Loaded<unknown>) => mount(PageState, { props: { loaded } })

describe('the state of a page', () => {
  it('says what failed with a way to retry, and of when the figures are that still stand there', async () => {
    const failed = state({ state: 'failed', problem })
    expect(failed.text()).toContain('The repository is away.')
    expect(failed.text()).not.toContain('These figures are of')
    await failed.get('button').trigger('click')
    expect(failed.emitted('retry')).toHaveLength(1)
    const at = new Date('2026-03-01T06:00:00Z')
    expect(state({ state: 'failed', problem, data: [], at }).text()).toContain('These figures are of')
  })

  it('draws what is loading, and nothing once it is there', () => {
    expect(state({ state: 'loading' }).get('[role=status]').text()).toBe('Loading')
    expect(state({ state: 'ready', data: [], at: new Date() }).text()).toBe('')
  })
})

describe('a statement', () => {
  const TEXT = "select metres from deck where vessel_id >= 7 and name = 'Tern' -- berth"

  it('is highlighted without losing a letter, and its text is never taken for markup', async () => {
    const pieces = await highlighted(TEXT)
    expect(pieces.map((piece) => piece.text).join('')).toBe(TEXT)
    const kinds = new Map(pieces.map((piece) => [piece.text, piece.kind]))
    expect([kinds.get('select'), kinds.get("'Tern'"), kinds.get('-- berth')]).toEqual([
      'keyword',
      'string',
      'comment',
    ])
    const hostile = 'select \'<img src=x onerror=alert(1)>\' as "</pre><b>"'
    const wrapper = mount(StatementText, { props: { text: hostile, name: 'the statement' } })
    await vi.waitFor(() => expect(wrapper.findAll('pre span').length).toBeGreaterThan(1))
    expect(wrapper.get('pre').text()).toBe(hostile)
    expect(wrapper.find('pre img, pre b').exists()).toBe(false)
  })

  it('is laid out when asked, and shown as it is where it cannot be', async () => {
    expect(await laidOut('select a from b where c = $1')).toBe('select\n  a\nfrom\n  b\nwhere\n  c = $1')
    expect(await laidOut("select 'never closed")).toBeNull()
    const wrapper = mount(StatementText, { props: { text: 'select a from b', name: 'the statement' } })
    await wrapper.get('[aria-pressed]').trigger('click')
    await vi.waitFor(() => expect(wrapper.get('pre').text()).toContain('select\n  a\nfrom'))
    expect(wrapper.getComponent(CopyButton).props('text')).toBe('select a from b')
  })

  it('is told from a sentence', () => {
    expect(isSentence('Upgrade the server to version 17 or later.')).toBe(true)
    for (const sql of [
      'CREATE EXTENSION pg_stat_statements;',
      'select metres from deck',
      'GRANT pg_monitor TO crew.',
    ])
      expect(isSentence(sql)).toBe(false)
  })

  it('says where it cannot be copied', async () => {
    vi.stubGlobal('navigator', { clipboard: { writeText: () => Promise.reject(new Error('no')) } })
    const button = mount(CopyButton, { props: { text: 'a', name: 'it' } })
    await button.trigger('click')
    await flushPromises()
    expect(button.text()).toBe('Select and copy by hand')
    vi.unstubAllGlobals()
  })
})

describe('what is missing', () => {
  const ready = { state: 'ready' as const, data: 1, at: new Date() }
  it('is said above what is there; of what is not there, why and what to do', () => {
    const partial = mount(PageState, { props: { loaded: ready, partial: 'Two columns were not observed.' } })
    expect(partial.get('[role=status]').text()).toBe('Two columns were not observed.')
    const none = mount(PageState, { props: { loaded: ready, empty: 'Nothing ran.', next: 'Wait a moment.' } })
    expect(none.get('[role=status]').text()).toBe('Nothing ran.Wait a moment.')
    expect(mount(PageState, { props: { loaded: ready } }).text()).toBe('')
  })
})

describe('progress', () => {
  it('tells how long it may still take, once enough is done, and can be stopped', async () => {
    vi.setSystemTime('2026-03-01T06:01:00Z')
    const begunAt = '2026-03-01T06:00:00Z'
    const at = (share: number) =>
      mount(ProgressNote, { props: { share, phase: 'Scanning', begunAt, stops: 'can' } })
    expect(at(0.01).text()).not.toContain('left')
    expect(at(0.25).text()).toContain('Scanning, about 3\u00a0min left')
    const wrapper = at(0.5)
    await wrapper.get('button').trigger('click')
    expect(wrapper.emitted('stop')).toHaveLength(1)
    vi.useRealTimers()
  })
})

describe('a form', () => {
  async function open() {
    const values = reactive({ name: 'tides' })
    const heard: string[] = []
    const router = createRouter({
      history: createMemoryHistory(),
      routes: ['/', '/elsewhere'].map((path) => ({ path, component: { template: '<p />' } })),
    })
    await router.push('/')
    const page = defineComponent(
      () => () =>
        h(
          FormDialog,
          {
            open: true,
            title: 'Edit',
            submit: 'Save',
            values,
            problem: { ...problem, errors: [{ field: 'name', value: '', remedy: 'Give a name.' }] },
            onClose: () => heard.push('close'),
            onSubmit: () => heard.push('submit'),
          },
          {
            default: () => h(FormField, { label: 'Name', for: 'n', fault: 'Give a name.' }, () => h('input')),
          },
        ),
    )
    const body = { template: '<div><slot /><slot name="footer" /></div>' }
    const wrapper = mount(page, {
      global: { plugins: [router], stubs: { AModal: body } },
      attachTo: document.body,
    })
    const press = async (label: string) => {
      const buttons = [...document.querySelectorAll('button')].filter(
        (one) => one.textContent?.replaceAll(/\s/g, '') === label,
      )
      buttons.at(-1)!.click()
      await flushPromises()
    }
    return { wrapper, values, heard, router, press }
  }

  it('shows what is wrong beside its field, and sends itself on Enter', async () => {
    const { wrapper, heard } = await open()
    expect(wrapper.get('em[role=alert]').text()).toBe('Give a name.')
    expect(wrapper.get('[data-test=form-problem]').text()).toBe('Away.')
    await wrapper.get('form').trigger('submit')
    expect(heard).toEqual(['submit'])
    wrapper.unmount()
  })

  it('asks before changes are lost, and not where there are none', async () => {
    const asked = vi.spyOn(Modal, 'confirm').mockReturnValue({ destroy: () => {}, update: () => {} })
    const { wrapper, values, heard, router, press } = await open()
    await press('Cancel')
    expect([heard, asked.mock.calls.length]).toEqual([['close'], 0])
    values.name = 'tides-2'
    await press('Cancel')
    expect(asked.mock.calls[0]![0]).toMatchObject({ title: 'Discard the changes?', okText: 'Discard' })
    asked.mock.calls[0]![0].onCancel!()
    await flushPromises()
    expect(heard).toEqual(['close'])
    const going = router.push('/elsewhere')
    await vi.waitFor(() => expect(asked.mock.calls.length).toBe(2))
    asked.mock.calls[1]![0].onOk!()
    await going
    expect(router.currentRoute.value.path).toBe('/elsewhere')
    wrapper.unmount()
    asked.mockRestore()
  })
})

describe('a list that comes by pages', () => {
  it('is fetched to its end, and no further when rows go meanwhile', async () => {
    const asked: number[] = []
    const all = Array.from({ length: 450 }, (_, i) => i)
    const rows = await everyPage(async (page, size) => {
      asked.push(page)
      return { matching: 450, rows: all.slice((page - 1) * size, page * size) }
    })
    expect([rows.length, asked]).toEqual([450, [1, 2, 3]])
    expect(await everyPage(async (page) => ({ matching: 9, rows: page === 1 ? [1] : [] }))).toEqual([1])
  })
})
