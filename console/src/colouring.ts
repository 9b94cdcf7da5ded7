// The parts of source text by what they are, for the colours of an editor.

export type TokenKind = '' | 'tag' | 'name' | 'value' | 'edge' | 'comment'
export interface Token { text: string; kind: TokenKind }

/** SSML, or any XML: a line at a time. */
export function ofXml(source: string): Token[][] {
  return source.split('\n').map(ofXmlLine)
}

function ofXmlLine(text: string): Token[] {
  const found: Token[] = []
  const pattern = /(<!--.*?(?:-->|$))|(<\/?)([\w:.-]+)|([\w:.-]+)(=)("[^"]*"?|'[^']*'?)|(\/?>)|(&[\w#]+;)/g
  let at = 0
  let inside = false
  for (const match of text.matchAll(pattern)) {
    if (match[4] && !inside) continue
    if (match.index > at) found.push({ text: text.slice(at, match.index), kind: '' })
    if (match[1]) found.push({ text: match[1], kind: 'comment' })
    else if (match[3]) {
      found.push({ text: match[2]!, kind: 'edge' }, { text: match[3], kind: 'tag' })
      inside = true
    } else if (match[6]) found.push({ text: match[4]!, kind: 'name' }, { text: '=', kind: 'edge' }, { text: match[6], kind: 'value' })
    else if (match[7]) {
      found.push({ text: match[7], kind: 'edge' })
      inside = false
    } else found.push({ text: match[0], kind: 'value' })
    at = match.index + match[0].length
  }
  if (at < text.length) found.push({ text: text.slice(at), kind: '' })
  return found
}

/** TOML 1.0; texts in three quotes go over lines. */
export function ofToml(source: string): Token[][] {
  /** The quotes that end the text in which the line begins. */
  let until = ''
  return source.split('\n').map((line) => {
    const found: Token[] = []
    let rest = line
    const take = (length: number, kind: TokenKind) => {
      if (length) found.push({ text: rest.slice(0, length), kind })
      rest = rest.slice(length)
    }
    if (until) {
      const end = rest.indexOf(until)
      take(end < 0 ? rest.length : end + until.length, 'value')
      if (end >= 0) until = ''
    }
    const head = /^\s*\[\[?[^\]]*\]?\]?/.exec(rest)
    if (head && !found.length) take(head[0].length, 'tag')
    while (rest) {
      const open = /^("""|''')/.exec(rest)
      if (open) {
        const end = rest.indexOf(open[1]!, 3)
        if (end < 0) until = open[1]!
        take(end < 0 ? rest.length : end + 3, 'value')
        continue
      }
      const token = /^(#.*)|^("(?:\\.|[^"\\])*"?|'[^']*'?)(?=(\s*[=.])?)|^([\w-]+)(?=(\s*(?:=|\.[\w"'-]))?)|^([=.,{}[\]]+)|^(\s+)/.exec(rest)
      if (!token) take(1, '')
      else if (token[1]) take(token[1].length, 'comment')
      else if (token[2]) take(token[2].length, token[3] ? 'name' : 'value')
      else if (token[4]) take(token[4].length, token[5] ? 'name' : 'value')
      else take(token[0].length, token[6] ? 'edge' : '')
    }
    return found
  })
}
