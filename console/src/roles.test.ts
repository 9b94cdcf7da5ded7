import { describe, expect, it } from 'vitest'
import { canUse, firstPage, roles } from './roles'

describe('roles', () => {
  it('hides from an app owner what only operators read', () => {
    for (const page of ['/overview', '/alerts', '/credentials', '/people']) expect(canUse('app-owner', page)).toBe(false)
    for (const page of ['/', '/apps', '/usage', '/dispatches']) expect(canUse('app-owner', page)).toBe(true)
  })

  it('shows an auditor all records and no work', () => {
    for (const page of ['/', '/captions', '/exchange']) expect(canUse('auditor', page)).toBe(false)
    for (const page of ['/people', '/credentials', '/usage']) expect(canUse('auditor', page)).toBe(true)
  })

  it('begins each role on a page that it can use', () => {
    for (const role of roles) expect(canUse(role.value, firstPage(role.value))).toBe(true)
  })
})
