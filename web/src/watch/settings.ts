import type { Schemas } from '../api/client'

type Settings = Schemas['InstanceSettings']
/** Values of settings as a form has them: flags as such, all others as they are typed. */
export type Typed = Record<string, boolean | string>

/** Settings as a form has them. */
export function typed(settings: Settings | undefined): Typed {
  const values = Object.entries(settings ?? {})
  return Object.fromEntries(
    values.map(([name, value]) => [name, Array.isArray(value) ? value.join(', ') : (value ?? '')]),
  )
}

/** Settings as the server takes them, of a form that was filled in. */
export function given(all: readonly Schemas['SettingFigures'][], form: Typed): Settings {
  const value = ({ name, form: kind }: Schemas['SettingFigures']) => {
    const text = String(form[name] ?? '').trim()
    if (kind === 'flag') return form[name] === true
    if (kind !== 'names') return text
    return text
      .split(',')
      .map((one) => one.trim())
      .filter(Boolean)
  }
  return Object.fromEntries(all.map((setting) => [setting.name, value(setting)])) as Settings
}
