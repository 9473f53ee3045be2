<script lang="ts">
  import type { Standing } from '../lib/words'
  import { meaning } from '../lib/words'
  import Stake from './Stake.svelte'

  let { standing, count }: { standing: Standing; count?: number } = $props()
</script>

<span class="whitespace-nowrap" class:text-attention={standing === 'shifted' || standing === 'unread'} title={meaning[standing]}>
  <Stake {standing} /><span class="ml-1">{count ?? ''} {standing}</span>
</span>
