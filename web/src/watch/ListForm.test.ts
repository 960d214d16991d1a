import { flushPromises, mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import { createMemoryHistory, createRouter } from 'vue-router'
import { server, stubServer } from '../testing/page'

stubServer()
const { default: ListForm } = await import('./ListForm.vue')
const router = createRouter({
  history: createMemoryHistory(),
  routes: [{ path: '/', component: { template: '<p />' } }],
})
const row = (place: number, problems: unknown[]) => ({ place, label: `berth-${place}`, problems })

describe('a list of instances', () => {
  it('is looked at first, imported without its bad rows, and taken back', async () => {
    const wrapper = mount(ListForm, {
      props: { open: true },
      global: {
        plugins: [router],
        stubs: { AModal: { template: '<div><slot /><slot name="footer" /></div>' } },
      },
    })
    const press = async (label: string) => {
      await wrapper
        .findAll('button')
        .find((one) => one.text().includes(label))!
        .trigger('click')
      await flushPromises()
    }
    await wrapper.find('textarea').setValue('label,host\nberth-2,berth-host')
    server.answers['POST /api/v1/instance-lists/preview'] = {
      good: 1,
      bad: 1,
      rows: [row(2, []), row(3, [{ field: 'port', value: '70000', remedy: 'Give a port.' }])],
    }
    await press('Preview')
    const preview = wrapper.find('[data-test=preview]').text().replaceAll(/\s+/g, ' ')
    expect(preview).toContain('1 row is valid, 1 is skipped')
    expect(preview).toContain('berth-3')
    expect(preview).toContain('Give a port.')
    expect(preview).not.toContain('berth-2')
    server.answers['POST /api/v1/instance-lists'] = { list_id: '4', added: 1, left_out: [row(3, [])] }
    await press('Import 1')
    expect(wrapper.find('[data-test=brought]').text()).toContain('1 imported, 1 row skipped')
    server.answers['DELETE /api/v1/instance-lists/4'] = { labels: ['berth-2'] }
    await press('Undo the import')
    expect(wrapper.find('[data-test=brought]').text()).toContain('1 instance deleted again.')
    expect(wrapper.emitted('changed')).toHaveLength(2)
  })

  it('must be looked at anew when it was changed, and says what cannot be read', async () => {
    const wrapper = mount(ListForm, {
      props: { open: true },
      global: {
        plugins: [router],
        stubs: { AModal: { template: '<div><slot /><slot name="footer" /></div>' } },
      },
    })
    await wrapper.find('textarea').setValue('[')
    delete server.answers['POST /api/v1/instance-lists/preview']
    await wrapper
      .findAll('button')
      .find((one) => one.text().includes('Preview'))!
      .trigger('click')
    await flushPromises()
    expect(wrapper.find('[role=alert]').text()).toContain('No /api/v1/instance-lists/preview.')
    const bring = wrapper.findAll('button').find((one) => one.text() === 'Import')
    expect(bring!.attributes('disabled')).toBeDefined()
  })
})
