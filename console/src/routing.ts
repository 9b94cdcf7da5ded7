// Routes in words, and how their engines do.
import type { Schemas } from './api/client'

export type Route = Schemas['RouteSchema']
export type Leg = Schemas['LegSchema']

/** How the orders of routes are said. */
export const orders: Record<string, string> = {
  listed: 'as listed',
  cheapest: 'the cheapest first',
  fastest: 'the fastest first, as measured',
  faithful: 'first the one that loses the least of the script',
}

/** The conditions of a leg in words. */
export function conditions(leg: Leg): string[] {
  const { languages, formats, apps, hours, site, region } = leg.conditions ?? {}
  return [
    languages?.length ? `languages ${languages.join(', ')}` : '',
    formats?.length ? `formats ${formats.join(', ')}` : '',
    apps?.length ? `for ${apps.join(', ')}` : '',
    hours ? `${hours} UTC` : '',
    site ? `only while ${site}` : '',
    region ? `in ${region}` : '',
    leg.weight ? `weight ${leg.weight}` : '',
  ].filter(Boolean)
}

/** Who speaks or hears a leg. */
export function speaker(leg: Leg, work: string): string {
  if (leg.voice) return `${leg.engine}/${leg.voice}`
  const { languages, gender, style, name } = leg.criteria ?? {}
  const like = [style, gender, languages, name].filter(Boolean).join(' ')
  if (work === 'recognition') return leg.engine
  return like ? `${leg.engine}, a voice like ${like}` : `${leg.engine}, any voice`
}

/** The breaker of an engine that keeps calls from it, if one does. */
export function shut(engine: string, breakers: Schemas['BreakerAnswer'][]): Schemas['BreakerAnswer'] | undefined {
  return breakers.find((one) => one.engine === engine && one.state !== 'closed')
}

/** Why an engine is not called, in words. */
export function shutReason(breaker: Schemas['BreakerAnswer']): string {
  if (breaker.state === 'half-open') return 'one call finds out whether it works again'
  return `not called after ${breaker.failures} failures (${breaker.cause ?? 'unknown'}); tried again in ${Math.ceil(breaker.retry_after ?? 0)} s`
}

/** A route as people write it, without the name that its address has. */
export function written(route: Route): string {
  return JSON.stringify({ ...route, name: undefined }, null, 2)
}
