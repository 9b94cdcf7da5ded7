// Who can recognise: routes first, then engines, as a form offers them.
import { api, ask } from '@/api/client'

export interface HearerChoice {
  title: string
  /** `route=…` or `engine=…`. */
  value: string
}

export async function hearers(): Promise<HearerChoice[]> {
  const [engines, routes] = await Promise.all([ask(api.GET('/api/v1/engines')), ask(api.GET('/api/v1/routes'))])
  const plans = routes.items.filter((one) => one.work === 'recognition')
  return [
    ...plans.map((one) => ({ title: `${one.name} (route)`, value: `route=${one.name}` })),
    ...engines.items.filter((one) => one.recognition).map((one) => ({ title: one.state === 'ready' ? one.name : `${one.name} (${one.state})`, value: `engine=${one.name}` })),
  ]
}
