import type { RouteParamsRawGeneric } from 'vue-router'

/** The page of a table that is named as `schema.name`, on the instance of the page that is shown or of these params. */
export function tableRoute(database: string, qualified: string, params: RouteParamsRawGeneric = {}) {
  const dot = qualified.indexOf('.')
  const [schema, table] = [qualified.slice(0, dot), qualified.slice(dot + 1)]
  return { name: 'table', params: { ...params, database, schema, table } }
}
