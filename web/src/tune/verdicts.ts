import type { Schemas } from '../api/client'
import { bytes, number } from '../format'

type Effect = Schemas['EffectFigures']
type Advice = Schemas['AdviceFigures']

/** Verdicts in words. */
export const VERDICTS: Record<Schemas['Verdict'], string> = {
  confirmed: 'confirmed',
  no_effect: 'no effect',
  harmful: 'harmful',
  too_early: 'too early',
  cannot_tell: 'cannot tell',
}

export const STATES: Record<Schemas['AdviceState'], string> = {
  open: 'open',
  applied: 'applied',
  set_aside: 'dismissed',
  lapsed: 'no longer valid',
}

/** Time saved, from seconds per day: how many sessions fewer are busy with it at any time, and the hours of a day. */
export function savedTime(secondsPerDay: number): string {
  const hours = secondsPerDay / 3600
  const aDay = Math.abs(hours) < 1 ? `${number(hours * 60)} min` : `${number(hours)} h`
  return `${number(secondsPerDay / 86_400)} busy sessions (${aDay} a day)`
}

/** What a recommendation predicts, in words. */
export function predicted(advice: Advice): string {
  const { predicted_seconds_per_day: saved, predicted_freed_bytes: freed } = advice
  const time = saved > 0 ? [savedTime(saved)] : []
  return [...time, ...(freed > 0 ? [`frees ${bytes(freed)}`] : [])].join(', ')
}

/** How the measured effect compares with the predicted one; nothing while it is not measured. */
export function shareOfPrediction(effect: Effect | null | undefined, predicted: number): number | null {
  const measured = effect?.saved_seconds_per_day?.value
  return measured === undefined || predicted <= 0 ? null : measured / predicted
}
