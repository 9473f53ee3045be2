/** follow calls each for every event of a record's stream, and ended at its end.
 *  The browser takes a broken stream up again by Last-Event-ID. */
export function follow(path: string, each: (kind: string, data: unknown) => void): () => void {
  const source = new EventSource('/api/v1' + path)
  for (const kind of ['host', 'end']) {
    source.addEventListener(kind, (e) => {
      each(kind, JSON.parse((e as MessageEvent).data))
      if (kind === 'end') source.close()
    })
  }
  return () => source.close()
}

/** ended waits for the end of a record's stream. */
export function ended(path: string): Promise<void> {
  return new Promise((done) => {
    follow(path, (kind) => kind === 'end' && done())
  })
}
