import type { Schemas } from '../api/client'
import { bytes, seconds } from '../format'

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

/** What a recommendation predicts, in words. */
export function predicted(advice: Advice): string {
  const { predicted_seconds_per_day: saved, predicted_freed_bytes: freed } = advice
  const time = saved > 0 ? [`${seconds(saved)} / day`] : []
  return [...time, ...(freed > 0 ? [`frees ${bytes(freed)}`] : [])].join(', ')
}

/** How the measured effect compares with the predicted one; nothing while it is not measured. */
export function shareOfPrediction(effect: Effect | null | undefined, predicted: number): number | null {
  const measured = effect?.saved_seconds_per_day?.value
  return measured === undefined || predicted <= 0 ? null : measured / predicted
}
