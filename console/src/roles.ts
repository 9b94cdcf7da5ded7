// What people may do in the console. The service decides; this is for showing.
export const roles = [
  { value: 'operator', title: 'Operator', meaning: 'may do everything.' },
  { value: 'app-owner', title: 'App owner', meaning: 'uses some apps, reads their records and changes their keys.' },
  { value: 'auditor', title: 'Auditor', meaning: 'reads everything and changes nothing.' },
]

const operators = ['/overview', '/alerts', '/credentials', '/people']
const works = ['/', '/captions', '/exchange']

/** Whether a role can use a page. */
export function canUse(role: string | null, page: string) {
  if (role === 'app-owner') return !operators.includes(page)
  if (role === 'auditor') return !works.includes(page)
  return true
}

/** The page on which a role begins. */
export const firstPage = (role: string | null) => (role === 'auditor' ? '/overview' : '/')
