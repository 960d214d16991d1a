/** What each part of the page of a family is asked of. */
export interface FamilyPart {
  instanceId: number
  family: string
  span: { from: Date; to: Date }
  /** Stays the same while the span follows the clock. */
  spanKey: string
  /** Counts up whenever there are newer figures. */
  again: number
}
