import { Validator } from '@seriousme/openapi-schema-validator'
import { describe, expect, it } from 'vitest'
import document from './openapi.json'

describe('the document of the API', () => {
  it('is valid by the schema of the OpenAPI specification', async () => {
    const validator = new Validator()
    const { valid, errors } = await validator.validate(structuredClone(document))
    expect(errors).toBeUndefined()
    expect([valid, validator.version]).toEqual([true, '3.1'])
  })

  it('is found at fault where an answer has no description', async () => {
    const broken = structuredClone(document) as unknown as {
      paths: Record<string, { get: { responses: Record<string, { description?: string }> } }>
    }
    delete broken.paths['/api/v1/instances']!.get.responses['200']!.description
    expect((await new Validator().validate(broken)).valid).toBe(false)
  })
})
