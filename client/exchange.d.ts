export { Exchange } from './dispatcher.js'
export type { ExchangeOptions, ExchangeStage, ExchangeTurn } from './dispatcher.js'
