import type { Schemas } from '../api/client'
import type { StripRow } from '../pictures/StripStack.vue'
import { fullOf } from '../pictures/usual'
import { inUnit } from './measured'

type Course = Schemas['Course']
type Courses = Schemas['Courses']

/** A figure of one object of one instance. */
export interface Picked {
  instance: string
  figure: string
  object: string
}

/** Figures as an address has them: the parts of each with colons between them, and commas between figures. */
export function writePicked(picked: readonly Picked[]): string | undefined {
  const part = (text: string) => encodeURIComponent(text)
  return (
    picked.map(({ instance, figure, object }) => [instance, figure, object].map(part).join(':')).join(',') ||
    undefined
  )
}
export function parsePicked(text: unknown): Picked[] {
  return String(text ?? '')
    .split(',')
    .flatMap((one) => {
      const [instance = '', figure = '', object = ''] = one.split(':').map(decoded)
      return instance && figure ? [{ instance, figure, object }] : []
    })
}
function decoded(part: string): string {
  try {
    return decodeURIComponent(part)
  } catch {
    return part
  }
}
export const same = (one: Picked, other: Picked) =>
  one.instance === other.instance && one.figure === other.figure && one.object === other.object

/** What a figure of an object is called. */
export const courseName = ({ title, object }: Pick<Course, 'title' | 'object'>) => `${title} ${object}`.trim()

/** The row of a figure, on a scale of its own, before what is usual of it. */
export function courseRow(course: Course, label: string, key: string): StripRow {
  const write = (value: number) => inUnit(value, course.unit)
  return {
    key,
    label,
    hint: [
      course.meaning,
      course.further_objects > 0 ? `${course.further_objects} more with smaller values are not shown.` : '',
    ]
      .filter(Boolean)
      .join(' '),
    values: course.values.map((value) => value ?? null),
    ink: 'url(#ink-plum)',
    usual: course.low.map((low, at) => ({ low, high: course.high[at] ?? low })),
    figures: [write(course.mean), write(course.least), write(course.most)],
    full: fullOf(
      course.values.map((value) => value ?? null),
      course.high,
    ),
    press: 'choose',
    write,
  }
}

/** Rows of an instance's resources: for each a head, and unless it is folded, its figures. */
export function resourceRows(
  data: Courses,
  folded: readonly string[],
  instance: string,
  picked: readonly Picked[],
): StripRow[] {
  return data.resources.flatMap(({ resource, title }) => {
    const of = data.courses.filter((course) => course.resource === resource)
    const isOpen = !folded.includes(resource)
    const head: StripRow = {
      key: `fold ${resource}`,
      label: resource === 'processors' && data.cpus ? `${title} (${data.cpus})` : title,
      values: [],
      ink: '',
      figures: isOpen ? ['', '', ''] : [`${of.length} folded`],
      full: 1,
      press: 'fold',
      isOn: isOpen,
      write: String,
    }
    const rows = of.map((course) => {
      const one = { instance, figure: course.figure, object: course.object }
      return {
        ...courseRow(course, courseName(course), writePicked([one]) ?? ''),
        isOn: picked.some((other) => same(other, one)),
      }
    })
    return isOpen ? [head, ...rows] : [head]
  })
}
