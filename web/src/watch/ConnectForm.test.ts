import { flushPromises, mount } from '@vue/test-utils'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { createMemoryHistory, createRouter } from 'vue-router'

let sent: { method: string; path: string; body: Record<string, unknown> }[] = []
const settings = [
  { name: 'more_databases', label: 'More databases', hint: 'names between commas', form: 'names' },
  { name: 'keeps_literals', label: 'Literals', hint: 'keep them', form: 'flag' },
  { name: 'day_zone', label: 'Day begins in', hint: 'a time zone', form: 'time_zone' },
]
let reply: { status: number; body: unknown } = { status: 200, body: {} }
vi.stubGlobal('fetch', async (request: Request) => {
  const path = new URL(request.url).pathname
  if (path === '/api/v1/instance-settings')
    return new Response(JSON.stringify(settings), { headers: { 'content-type': 'application/json' } })
  sent.push({ method: request.method, path, body: (await request.json()) as Record<string, unknown> })
  const text = reply.status === 204 ? null : JSON.stringify(reply.body)
  return new Response(text, { status: reply.status, headers: { 'content-type': 'application/json' } })
})
const { default: ConnectForm } = await import('./ConnectForm.vue')

const known = {
  instance_id: 7,
  label: 'freight',
  host: 'freight-host',
  port: 5433,
  database: 'freight',
  account: 'hurnix_watch',
  tls: 'require',
  host_endpoint: 'http://freight-host:9470/metrics',
  allows_plain_password: false,
  settings: { keeps_literals: true, more_databases: ['tides'], day_zone: 'Europe/Lisbon' },
}
/** The form, shown in place and not in a layer of its own. */
function form(instance: unknown = null) {
  const wrapper = mount(ConnectForm, {
    props: { open: true, instance: instance as never },
    global: {
      plugins: [
        createRouter({
          history: createMemoryHistory(),
          routes: [{ path: '/', component: { template: '<p />' } }],
        }),
      ],
      stubs: { AModal: { template: '<div><slot /><slot name="footer" /></div>' } },
    },
  })
  return {
    wrapper,
    fill: (field: string, text: string) => wrapper.get(`#c-${field}`).setValue(text),
    press: async (label: string) => {
      const button = wrapper
        .findAll('button')
        .find((button) => button.text().replaceAll(/\s/g, '').includes(label))
      await button!.trigger('click')
      await flushPromises()
    },
  }
}

beforeEach(() => ([sent, reply] = [[], { status: 200, body: {} }]))

describe('the form of a connection', () => {
  it('sends what was typed and leaves out what was not', async () => {
    reply = { status: 201, body: { instance_id: 9 } }
    const { wrapper, fill, press } = form()
    await fill('label', 'crew')
    await fill('host', 'crew-host')
    await fill('port', '6432')
    await fill('database', 'crew')
    await fill('account', 'hurnix_watch')
    await fill('password', 'kelp')
    await flushPromises()
    await fill('more-databases', 'tides, quay,')
    await press('Add')
    expect(sent).toEqual([
      {
        method: 'POST',
        path: '/api/v1/instances',
        body: {
          label: 'crew',
          host: 'crew-host',
          port: 6432,
          database: 'crew',
          account: 'hurnix_watch',
          password: 'kelp',
          tls: 'prefer',
          allows_plain_password: false,
          settings: { keeps_literals: false, more_databases: ['tides', 'quay'], day_zone: '' },
        },
      },
    ])
    expect(wrapper.emitted('saved')).toHaveLength(1)
  })

  it('keeps the stored password of a known instance, and all that was not changed', async () => {
    reply = { status: 204, body: null }
    const { wrapper, press } = form(known)
    await flushPromises()
    await press('Save')
    const { instance_id, ...connection } = known
    expect(sent).toEqual([{ method: 'PUT', path: `/api/v1/instances/${instance_id}`, body: connection }])
    expect(wrapper.emitted('saved')).toHaveLength(1)
  })

  it('tries a known instance with its stored password, and signs in with a credential', async () => {
    reply = { status: 200, body: { server_version: '15.18', limits: [] } }
    const { wrapper, press } = form({ ...known, credential_id: 3 })
    await wrapper.setProps({
      credentials: [{ credential_id: 3, name: 'watch', account: 'hurnix_watch' }] as never,
    })
    await wrapper.setProps({ open: false })
    await wrapper.setProps({ open: true })
    expect(wrapper.find('#c-account').exists()).toBe(false)
    await press('Testconnection')
    expect(sent[0]?.path).toBe('/api/v1/instances/7/trial')
    expect(sent[0]?.body).toMatchObject({ credential: 'watch', account: '' })
    expect(sent[0]?.body).not.toHaveProperty('password')
  })

  it('shows each remedy beside its field and loses nothing', async () => {
    const errors = [
      { field: 'port', value: '0', remedy: 'Give a port from 1 to 65535.' },
      { field: 'label', value: '', remedy: 'It is empty: give one.' },
    ]
    reply = {
      status: 422,
      body: { type: 'urn:x', title: 'Not accepted', status: 422, detail: 'See the fields.', errors },
    }
    const { wrapper, fill, press } = form()
    await fill('host', 'crew-host')
    await fill('port', 'five')
    await press('Add')
    expect(sent[0]?.body.port).toBe(0)
    expect(wrapper.get('#c-port').element.parentElement?.textContent).toContain(
      'Give a port from 1 to 65535.',
    )
    expect(wrapper.get('[data-test=form-problem]').text()).toBe('Not accepted.')
    expect((wrapper.get('#c-host').element as HTMLInputElement).value).toBe('crew-host')
    expect((wrapper.get('#c-port').element as HTMLInputElement).value).toBe('five')
    expect(wrapper.emitted('saved')).toBeUndefined()
  })

  it('tells an obstacle in whole and once, and what the exporter asks for is sent only with its address', async () => {
    const detail = 'quay:5432 asks for the password in clear text.\nChoose verify for TLS.'
    reply = {
      status: 422,
      body: {
        type: 'urn:hurnix:problem:connection',
        title: 'The server could not be connected',
        status: 422,
        detail,
        errors: [{ field: 'password', value: '', remedy: detail }],
      },
    }
    const { wrapper, fill, press } = form()
    await fill('host-endpoint', 'http://quay:9470/metrics')
    await fill('host-secret', 'Bearer kelp')
    await press('Testconnection')
    expect(wrapper.text().match(/in clear text\./g)).toHaveLength(1)
    expect(sent[0]?.body).toMatchObject({ host_secret: 'Bearer kelp' })
    await fill('host-endpoint', '')
    await press('Testconnection')
    expect(sent[1]?.body).not.toHaveProperty('host_secret')
  })

  it('names what a trial found, with what is lost and how to get it', async () => {
    const limits = [
      {
        figures: 'log',
        reason: 'No structured log.',
        remedy: "ALTER SYSTEM SET log_destination = 'jsonlog';",
      },
    ]
    reply = { status: 200, body: { server_version: '15.18', limits } }
    const { wrapper, press } = form()
    await press('Testconnection')
    expect(sent[0]?.path).toBe('/api/v1/instances/trial')
    const told = wrapper.get('[role=status]').text()
    expect(told).toContain('PostgreSQL 15.18')
    expect(told).toContain('Without log. No structured log.')
    expect(told).toContain('ALTER SYSTEM')
  })
})
