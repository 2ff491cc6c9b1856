import { randomBytes } from 'node:crypto'
import { setResponseHeader } from 'h3'
import { defineNitroPlugin } from 'nitropack/runtime'

/** Pages run scripts of ours alone: those that the page itself holds bear a number that is another one each time. */
export default defineNitroPlugin((nitro) => {
  nitro.hooks.hook('render:html', (html, { event }) => {
    const nonce = randomBytes(16).toString('base64')
    const marked = (parts: string[]) => parts.map((part) => part.replace(/<script(?=[\s>])/g, `<script nonce="${nonce}"`))
    html.head = marked(html.head)
    html.bodyPrepend = marked(html.bodyPrepend)
    html.body = marked(html.body)
    html.bodyAppend = marked(html.bodyAppend)
    setResponseHeader(
      event,
      'content-security-policy',
      [
        "default-src 'self'",
        `script-src 'self' 'nonce-${nonce}'`,
        "style-src 'self' 'unsafe-inline'",
        "img-src 'self' data: blob:",
        "font-src 'self' data:",
        "object-src 'none'",
        "base-uri 'none'",
        "form-action 'self'",
        "frame-ancestors 'none'",
      ].join('; '),
    )
  })
})
