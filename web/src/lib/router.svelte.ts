/** The address bar as state: pages are chosen by path. */
class Route {
  path = $state(location.pathname)

  constructor() {
    addEventListener('popstate', () => (this.path = location.pathname))
    addEventListener('click', (e) => {
      const a = (e.target as Element | null)?.closest('a')
      if (!a || a.origin !== location.origin || a.target || e.metaKey || e.ctrlKey || e.shiftKey || e.button !== 0) return
      e.preventDefault()
      this.go(a.pathname)
    })
  }

  go(path: string) {
    if (path !== location.pathname) history.pushState(null, '', path)
    this.path = path
    scrollTo(0, 0)
  }

  /** The parts of a path: /saltmarsh/hosts/quay1 is ["saltmarsh", "hosts", "quay1"]. */
  get parts(): string[] {
    return this.path.split('/').filter(Boolean).map(decodeURIComponent)
  }
}

export const route = new Route()
