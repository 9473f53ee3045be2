<script lang="ts">
  import { api, unwrap } from '../lib/api'
  import { route } from '../lib/router.svelte'
  import { counted } from '../lib/words'
  import Heading from '../parts/Heading.svelte'
  import Trouble from '../parts/Trouble.svelte'

  const grounds = unwrap(api.GET('/grounds')).then((list) => {
    if (list.length === 1) route.go('/' + list[0].name)
    return list
  })
</script>

<Heading title="Grounds" />
{#await grounds}
  <p class="text-soft">Reading …</p>
{:then list}
  {#if list.length === 0}
    <div class="border-y border-rule-strong py-6">
      <p class="font-medium">No ground has been declared yet.</p>
      <p class="text-soft">
        On the command line: <code>northstake new DIR</code> writes one to start from, <code>northstake declare DIR</code> gives it to this service.
      </p>
    </div>
  {:else}
    <ol class="leaf ruled border-y border-rule-strong">
      {#each list as g, i (g.name)}
        <li class="flex flex-wrap items-baseline gap-x-4 py-2">
          <span class="margin-note">{i + 1}</span>
          <a href="/{g.name}" class="name">{g.name}</a><span>{counted(g.hosts, 'host')}, revision {g.revision}</span><span class="text-soft"
            >{g.about}</span
          >
        </li>
      {/each}
    </ol>
  {/if}
{:catch error}
  <Trouble {error} />
{/await}
