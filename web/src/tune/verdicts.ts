import type { Schemas } from '../api/client'

type Effect = Schemas['EffectFigures']

/** Verdicts in words. */
export const VERDICTS: Record<string, string> = {
  confirmed: 'confirmed',
  no_effect: 'no effect',
  harmful: 'harmful',
  too_early: 'too early',
  cannot_tell: 'cannot tell',
}

export const STATES: Record<string, string> = { open: 'open', applied: 'applied', set_aside: 'set aside' }

/** How the measured effect compares with the predicted one; nothing while it is not measured. */
export function shareOfPrediction(effect: Effect | null | undefined, predicted: number): number | null {
  const measured = effect?.saved_seconds_per_day?.value
  return measured === undefined || predicted <= 0 ? null : measured / predicted
}
