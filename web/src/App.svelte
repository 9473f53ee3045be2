<script lang="ts">
  import BookOpen from '@lucide/svelte/icons/book-open'
  import LogOut from '@lucide/svelte/icons/log-out'
  import Moon from '@lucide/svelte/icons/moon'
  import Sun from '@lucide/svelte/icons/sun'
  import { api, Refused, unwrap, type Schema } from './lib/api'
  import { route } from './lib/router.svelte'
  import Drift from './pages/Drift.svelte'
  import Ground from './pages/Ground.svelte'
  import Grounds from './pages/Grounds.svelte'
  import Host from './pages/Host.svelte'
  import Keys from './pages/Keys.svelte'
  import Plan from './pages/Plan.svelte'
  import Plans from './pages/Plans.svelte'
  import Run from './pages/Run.svelte'
  import Site from './pages/Site.svelte'
  import SignIn from './pages/SignIn.svelte'
  import Heading from './parts/Heading.svelte'
  import Stake from './parts/Stake.svelte'
  import Trouble from './parts/Trouble.svelte'

  let session = $state<Schema['Session'] | null>()
  let error = $state<unknown>()
  let theme = $state(localStorage.getItem('theme') ?? (matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light'))

  $effect(() => {
    document.documentElement.dataset.theme = theme
  })
  unwrap(api.GET('/session')).then(
    (s) => (session = s),
    (e) => (e instanceof Refused && e.status === 401 ? (session = null) : (error = e)),
  )
  function turn() {
    theme = theme === 'dark' ? 'light' : 'dark'
    localStorage.setItem('theme', theme)
  }
  async function signOut() {
    await unwrap(api.DELETE('/session')).catch((e) => (error = e))
    session = null
  }
  const parts = $derived(route.parts)
  const ground = $derived(parts[0])
  const links = $derived(
    ground && route.path !== '/help/keys'
      ? [
          ['Ground', `/${ground}`],
          ['Drift', `/${ground}/drift`],
          ['Plans', `/${ground}/plans`],
          ['Runs', `/${ground}/runs`],
        ]
      : [],
  )
  const here = (href: string) =>
    href === `/${ground}` ? parts.length === 1 || parts[1] === 'hosts' || parts[1] === 'sites' : route.path.startsWith(href)
  const number = $derived(/^\d+$/.test(parts[2] ?? '') ? Number(parts[2]) : undefined)
</script>

{#if error}
  <main class="mx-auto max-w-5xl px-4"><Trouble {error} /></main>
{:else if session === null}
  <SignIn done={(s) => (session = s)} />
{:else if session}
  <a
    href="#page"
    class="sr-only focus:not-sr-only focus:absolute focus:p-2"
    onclick={(e) => {
      e.preventDefault()
      document.getElementById('page')?.focus()
    }}>Skip to the page</a
  >
  <header class="border-b-2 border-ink">
    <div class="mx-auto flex max-w-5xl flex-wrap items-center gap-x-6 gap-y-1 px-4 py-2">
      <a href="/" class="flex items-center gap-1.5 text-lg font-bold text-ink no-underline"><Stake standing="set" size={20} />North Stake</a
      >
      <nav class="flex flex-1 gap-x-5 max-sm:order-last max-sm:basis-full" aria-label="Pages of this ground">
        {#each links as [name, href] (href)}
          <a
            {href}
            aria-current={here(href) ? 'page' : undefined}
            class="no-underline hover:underline {here(href) ? 'font-bold text-ink' : ''}">{name}</a
          >
        {/each}
      </nav>
      <span class="text-sm text-soft max-sm:ml-auto">{session.name}</span>
      <a class="p-1 text-ink" href="/help/keys" aria-label="Keys of a declaration" title="Keys of a declaration"><BookOpen size={17} /></a>
      <button
        class="cursor-pointer p-1"
        onclick={turn}
        aria-label={theme === 'dark' ? 'Light paper' : 'Dark paper'}
        title={theme === 'dark' ? 'Light paper' : 'Dark paper'}
      >
        {#if theme === 'dark'}<Sun size={17} />{:else}<Moon size={17} />{/if}
      </button>
      <button class="cursor-pointer p-1" onclick={signOut} aria-label="Sign out" title="Sign out"><LogOut size={17} /></button>
    </div>
  </header>
  <main id="page" tabindex="-1" class="mx-auto max-w-5xl px-4 pb-16 outline-none">
    {#key route.path}
      {#if parts.length === 0}<Grounds />
      {:else if route.path === '/help/keys'}<Keys />
      {:else if parts.length === 1}<Ground {ground} />
      {:else if parts[1] === 'hosts' && parts.length === 3}<Host {ground} host={parts[2]} />
      {:else if parts[1] === 'sites' && parts.length === 3}<Site {ground} site={parts[2]} />
      {:else if parts[1] === 'drift' && parts.length === 2}<Drift {ground} />
      {:else if (parts[1] === 'plans' || parts[1] === 'runs') && parts.length === 2}<Plans {ground} sort={parts[1]} />
      {:else if parts[1] === 'plans' && number !== undefined}<Plan {ground} id={number} />
      {:else if parts[1] === 'runs' && number !== undefined}<Run {ground} id={number} />
      {:else}
        <Heading title="Nothing is here" about="No page of the console is at {route.path}." />
        <a href="/">To the grounds</a>
      {/if}
    {/key}
  </main>
{/if}
