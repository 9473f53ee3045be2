<script lang="ts">
  import { api, unwrap, type Schema } from '../lib/api'
  import Button from '../parts/Button.svelte'
  import Stake from '../parts/Stake.svelte'
  import Trouble from '../parts/Trouble.svelte'

  let { done }: { done: (s: Schema['Session']) => void } = $props()
  let token = $state('')
  let error = $state<unknown>()
  let busy = $state(false)

  async function signIn(e: SubmitEvent) {
    e.preventDefault()
    busy = true
    error = undefined
    try {
      done(await unwrap(api.POST('/session', { body: { token: token.trim() } })))
    } catch (e) {
      error = e
    }
    busy = false
  }
</script>

<svelte:head><title>Sign in · North Stake</title></svelte:head>
<main class="mx-auto max-w-lg px-4 pt-[16vh]">
  <h1 class="mb-1 flex items-center gap-2 text-3xl font-bold"><Stake standing="set" size={28} />North Stake</h1>
  <p class="mb-6 text-soft">Web server hosts, held to what is declared.</p>
  <form onsubmit={signIn} class="border-y border-rule-strong py-5">
    <label class="mb-1 block font-medium" for="token">Token</label>
    <!-- svelte-ignore a11y_autofocus -->
    <input
      id="token"
      type="password"
      autocomplete="current-password"
      required
      autofocus
      bind:value={token}
      class="name mb-3 w-full border border-rule-strong bg-raised px-3 py-2"
    />
    <Button main type="submit" disabled={busy}>{busy ? 'Signing in …' : 'Sign in'}</Button>
    {#if error}<Trouble {error} />{/if}
  </form>
  <p class="mt-3 text-sm text-soft">
    The first token lies in <code>admin.token</code>, in the service's state directory. <code>northstake token create NAME</code> makes others.
  </p>
</main>
