import { flushPromises, mount } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { server, stubServer } from '../testing/page'

stubServer()
const { default: DiscoverForm } = await import('./DiscoverForm.vue')
const credentials = [
  { credential_id: 3, name: 'watch', account: 'hurnix_watch', hosts: [], changed_at: '', used_by: 1 },
]

async function form() {
  const wrapper = mount(DiscoverForm, {
    props: { open: false, credentials },
    global: { stubs: { AModal: { template: '<div><slot /></div>' } } },
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
beforeEach(() => ([server.answers, server.asked] = [{}, []]))

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
})
