<script lang="ts">
  /** Live regions: whether it plays, why the chosen strip is silent, and what the ledger says once it has settled. */
  import { nameOfScope } from '../state/scope';
  import { workspace } from '../state/workspace.svelte';
  import { Calm, ledgerSentence, playingSentence } from './sentences';

  const PLAYING_MS = 700;
  const LEDGER_MS = 1500;
  let playing = $state('');
  let ledger = $state('');
  const calmPlaying = new Calm((text) => (playing = text), PLAYING_MS);
  const calmLedger = new Calm((text) => (ledger = text), LEDGER_MS);
  const silent = $derived.by(() => {
    const { strip } = workspace.selection;
    const why = strip && workspace.routing?.strips[strip.id]?.silent;
    return why ? `${strip.name}: ${why}` : '';
  });

  $effect(() => {
    const { playing: on, sounding, passage } = workspace.listening;
    calmPlaying.tell(playingSentence(on, sounding, passage.name));
    return () => calmPlaying.stop();
  });
  $effect(() => {
    const { study, stale } = workspace.measuring;
    if (!study || stale) return;
    calmLedger.tell(ledgerSentence(study.ledger, nameOfScope(workspace), workspace.listening.passage.name));
    return () => calmLedger.stop();
  });
</script>

<div class="unseen" role="status" data-announce="playing">{playing}</div>
<div class="unseen" role="status" data-announce="silence">{silent}</div>
<div class="unseen" role="status" data-announce="ledger">{ledger}</div>
