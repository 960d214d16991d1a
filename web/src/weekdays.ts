/** Days of the week as the server names them, Monday first. */
export const WEEKDAYS = ['monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday', 'sunday']
/** A day as people write it. */
export const dayName = (day: string) => day.charAt(0).toUpperCase() + day.slice(1)
