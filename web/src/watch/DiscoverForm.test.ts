import { flushPromises, mount } from '@vue/test-utils'
import { Modal } from 'ant-design-vue'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { createMemoryHistory, createRouter } from 'vue-router'
import { server, stubServer } from '../testing/page'

stubServer()
const { default: DiscoverForm } = await import('./DiscoverForm.vue')
const credentials = [
  { credential_id: 3, name: 'watch', account: 'hurnix_watch', hosts: [], changed_at: '', used_by: 1 },
]

const elsewhere = { template: '<p />' }

async function form() {
  const wrapper = mount(DiscoverForm, {
    props: { open: false, credentials },
    global: {
      plugins: [
        createRouter({ history: createMemoryHistory(), routes: [{ path: '/', component: elsewhere }] }),
      ],
      stubs: { AModal: { template: '<div><slot /><i class="close" @click="$emit(`cancel`)" /></div>' } },
    },
  })
  await wrapper.setProps({ open: true })
  const press = async (label: string) => {
    await wrapper
      .findAll('button')
      .find((one) => one.text().includes(label))!
      .trigger('click')
    await flushPromises()
  }
  return { wrapper, press }
}
beforeEach(() => {
  stubServer()
  ;[server.answers, server.asked] = [{}, []]
})

describe('looking for servers', () => {
  it('looks at ports a few at a time, lists databases, and adds those picked', async () => {
    server.answers['POST /api/v1/discovery/servers'] = [{ port: 5433, offers_tls: true, known_as: ['quay'] }]
    server.answers['POST /api/v1/discovery/databases'] = [
      { name: 'berth', size_bytes: 1048576, may_connect: true, is_known: false },
      { name: 'quay', size_bytes: null, may_connect: true, is_known: true },
    ]
    server.answers['POST /api/v1/instance-lists'] = { list_id: '1', added: 1, left_out: [] }
    const { wrapper, press } = await form()
    await wrapper.find('input[name=host]').setValue('harbour-host')
    await wrapper.find('input[name=from]').setValue('5430')
    await wrapper.find('input[name=to]').setValue('5449')
    await wrapper.find('form').trigger('submit')
    await flushPromises()
    expect(wrapper.find('[data-test=looked]').text()).toContain('20 of 20 ports checked')
    expect(server.asked.filter((url) => url.pathname.endsWith('/servers'))).toHaveLength(2)
    expect(wrapper.find('[data-test=servers]').text()).toContain('known as quay')
    await press('List databases')
    const [berth, quay] = wrapper.findAll('input[type=checkbox]')
    expect(quay!.attributes('disabled')).toBeDefined()
    await berth!.setValue(true)
    await press('Add 1 database')
    expect(wrapper.find('[role=status]:last-of-type').text()).toContain('1 instance added')
    expect(wrapper.emitted('changed')).toHaveLength(1)
  })

  it('stops at what stands in the way, and says so', async () => {
    const { wrapper } = await form()
    await wrapper.find('input[name=host]').setValue('harbour-host')
    await wrapper.find('form').trigger('submit')
    await flushPromises()
    expect(wrapper.find('[role=alert]').text()).toContain('No /api/v1/discovery/servers.')
    expect(server.asked).toHaveLength(1)
  })

  it('sends what is no port as none, and says beside the field what is wrong', async () => {
    const sent: unknown[] = []
    vi.stubGlobal('fetch', async (request: Request) => {
      sent.push(await request.json())
      const errors = [{ field: 'to_port', value: '0', remedy: 'Give ports from 1 to 65535.' }]
      const problem = { type: 'urn:x', title: 'Not right', status: 422, detail: 'to_port', errors }
      return new Response(JSON.stringify(problem), { status: 422 })
    })
    const { wrapper } = await form()
    await wrapper.find('input[name=to]').setValue('54x7')
    await wrapper.find('form').trigger('submit')
    await flushPromises()
    expect(sent).toEqual([{ host: '', from_port: 5432, to_port: 0 }])
    expect(wrapper.findAll('[role=alert]').map((told) => told.text())).toEqual([
      'Give ports from 1 to 65535.',
    ])
    expect(wrapper.find<HTMLInputElement>('input[name=to]').element.value).toBe('54x7')
  })

  it('asks before it closes where a password was typed', async () => {
    server.answers['POST /api/v1/discovery/servers'] = [{ port: 5433, offers_tls: true, known_as: [] }]
    const { wrapper } = await form()
    await wrapper.find('input[name=host]').setValue('harbour-host')
    await wrapper.find('form').trigger('submit')
    await flushPromises()
    await wrapper.findComponent({ name: 'ASelect' }).vm.$emit('change', '')
    await flushPromises()
    await wrapper.find('input[name=secret]').setValue('kelp')
    const asks = vi.spyOn(Modal, 'confirm')
    await wrapper.find('.close').trigger('click')
    await flushPromises()
    expect(asks.mock.lastCall?.[0].title).toBe('Discard the changes?')
    expect(wrapper.emitted('close')).toBeUndefined()
  })
})
