const STEPS = [
  1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14_400, 21_600, 43_200, 86_400, 172_800,
  604_800,
]

/** Round moments for the labels of a time axis: at most `most`, in the viewer's zone. */
export function ticks(from: Date, to: Date, most: number): Date[] {
  const span = (to.getTime() - from.getTime()) / 1000
  const step = (STEPS.find((seconds) => span / seconds <= most) ?? 604_800) * 1000
  const shift = from.getTimezoneOffset() * 60_000
  const first = Math.ceil((from.getTime() - shift) / step) * step + shift
  const moments: Date[] = []
  for (let at = first; at <= to.getTime(); at += step) moments.push(new Date(at))
  return moments
}
