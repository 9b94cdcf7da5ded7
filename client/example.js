// An example page: speaks, shows words as they sound, and captions what is said.
import { Dispatcher } from './dispatcher.js'

const at = (id) => document.getElementById(id)
// What stands behind the # of the address is not sent to the server.
const given = new URLSearchParams(location.hash.slice(1))
at('token').value = given.get('token') ?? ''
at('service').value = given.get('service') ?? new URL('/', location.href).href

let dispatcher
let talk

function tell(id, text, fault = false) {
  at(id).textContent = text
  at(id).classList.toggle('fault', fault)
}

const told = (error) => `${error.problem.title ?? 'It failed'}: ${error.message}`

function begin() {
  dispatcher = new Dispatcher({ token: at('token').value.trim(), url: at('service').value.trim() })
  talk?.remove()
  const hearer = at('hearer').value.trim()
  talk = dispatcher.pushToTalk(at('talk'), hearer ? { engine: hearer } : {})
  talk.addEventListener('listening', () => {
    at('captions').replaceChildren()
    at('talk').setAttribute('aria-pressed', 'true')
    tell('heard', 'Listening…')
  })
  talk.addEventListener('result', ({ detail }) => {
    let line = at('captions').querySelector(`[data-segment="${detail.segment}"]`)
    if (!line) {
      line = document.createElement('li')
      line.dataset.segment = detail.segment
      at('captions').append(line)
    }
    line.textContent = detail.text
    line.className = detail.final ? 'final' : 'interim'
  })
  const over = () => at('talk').setAttribute('aria-pressed', 'false')
  talk.addEventListener('end', ({ detail }) => {
    over()
    tell('heard', detail.cost ? `${detail.duration} s, ${detail.cost.amount} ${detail.cost.currency}` : '')
  })
  talk.addEventListener('error', ({ detail }) => {
    over()
    tell('heard', told(detail), true)
  })
}

let speaking

function speak() {
  const utterance = dispatcher.speak(at('text').value, { voice: at('voice').value.trim() })
  // The same click twice is one utterance.
  if (utterance === speaking) return
  speaking = utterance
  at('words').replaceChildren()
  tell('spoken', '')
  at('stop').disabled = false
  utterance.addEventListener('start', ({ detail }) => tell('spoken', `${detail.voice}, dispatch ${detail.dispatch}`))
  utterance.addEventListener('word', ({ detail }) => {
    const word = document.createElement('span')
    word.className = 'said'
    word.textContent = `${detail.text} `
    at('words').append(word)
  })
  utterance.addEventListener('error', ({ detail }) => tell('spoken', told(detail), true))
  utterance.addEventListener('end', ({ detail }) => {
    const cost = detail.cost ? `, ${detail.cost.amount} ${detail.cost.currency}` : ''
    tell('spoken', `${detail.stopped ? 'Stopped' : 'Spoken'} after ${detail.heard.toFixed(2)} s${cost}, dispatch ${detail.dispatch ?? '–'}`)
  })
  void utterance.ended.then(() => {
    if (speaking === utterance) at('stop').disabled = true
  })
}

let exchange
let byPush = false

function say(role, text) {
  const line = document.createElement(role === 'You' ? 'dt' : 'dd')
  line.textContent = text
  at('turns').append(line)
}

/** An exchange with turns of one kind; another one that runs is ended. */
function beginExchange(turns) {
  if (exchange && !exchange.over && byPush === (turns === 'push')) return exchange
  exchange?.close()
  byPush = turns === 'push'
  const hearer = at('hearer').value.trim()
  const running = dispatcher.exchange({ turns, ear: hearer ? { engine: hearer } : {}, voice: { voice: at('voice').value.trim() } })
  running.addEventListener('said', ({ detail }) => say('You', detail.text))
  running.addEventListener('sentence', ({ detail }) => say('Reply', detail.text))
  running.addEventListener('turn', ({ detail }) => {
    const first = (name) => detail.stages[name]?.first
    const stages = ['ear', 'reply', 'voice'].filter((name) => first(name) != null).map((name) => `${name} ${first(name).toFixed(2)} s`)
    tell('asked', `${detail.state}: ${stages.join(', ')}`, Boolean(detail.fault))
  })
  running.addEventListener('error', ({ detail }) => tell('asked', told(detail), true))
  void running.ended.then(() => running === exchange && at('converse').setAttribute('aria-pressed', 'false'))
  exchange = running
  return running
}

function ask(down) {
  const running = beginExchange('push')
  if (down) running.press()
  else void running.release()
}

at('ask').addEventListener('pointerdown', () => ask(true))
for (const type of ['pointerup', 'pointercancel', 'blur']) at('ask').addEventListener(type, () => exchange && byPush && ask(false))
at('ask').addEventListener('keydown', (event) => {
  if (event.key !== ' ' && event.key !== 'Enter') return
  event.preventDefault()
  if (!event.repeat) ask(true)
})
at('ask').addEventListener('keyup', (event) => (event.key === ' ' || event.key === 'Enter') && ask(false))
at('converse').addEventListener('click', () => {
  if (exchange && !exchange.over && !byPush) return exchange.close()
  beginExchange('silence')
  at('converse').setAttribute('aria-pressed', 'true')
})
at('quiet').addEventListener('click', () => exchange?.stop())
for (const id of ['token', 'service', 'hearer']) at(id).addEventListener('change', begin)
at('setup').addEventListener('submit', (event) => event.preventDefault())
at('speak').addEventListener('click', speak)
at('stop').addEventListener('click', () => speaking?.stop())
begin()
