import { shown } from './shown'

/** kinds are the events that a stream can have. */
const kinds = ['host', 'resumed', 'cancelled', 'end']

/** follow calls each for every event of a record's stream, until its end or until what it returns is
 *  called. The browser takes a stream that breaks up again by itself; one that was answered with
 *  anything but a stream, by a proxy while the service is away say, it gives up for good: that one is
 *  asked for anew, from its beginning, after a while that grows up to 15 s. */
export function follow(path: string, each: (kind: string, data: unknown) => void): () => void {
  let source: EventSource
  let timer: ReturnType<typeof setTimeout> | undefined
  let wait = 500
  const open = () => {
    source = new EventSource('/api/v1' + path)
    for (const kind of kinds) {
      source.addEventListener(kind, (e) => {
        if (kind === 'end') source.close()
        each(kind, shown(JSON.parse((e as MessageEvent).data)))
      })
    }
    source.addEventListener('open', () => (wait = 500))
    source.addEventListener('error', () => {
      if (source.readyState !== EventSource.CLOSED) return
      timer = setTimeout(open, wait)
      wait = Math.min(2 * wait, 15_000)
    })
  }
  open()
  return () => {
    clearTimeout(timer)
    source.close()
  }
}

/** ended waits for the end of a record's stream. */
export function ended(path: string): Promise<void> {
  return new Promise((done) => {
    follow(path, (kind) => kind === 'end' && done())
  })
}
