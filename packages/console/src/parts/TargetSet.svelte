<script lang="ts">
  import type { TargetComparison } from '@barrow/core';
  import FormDialog from './FormDialog.svelte';
  import Trouble from './Trouble.svelte';
  import { client, failureOf, type Failure } from '../lib/session.svelte.js';

  let { onclose }: { onclose: () => void } = $props();
  let text = '';
  let seen = $state.raw<TargetComparison | null>(null);
  let failure = $state.raw<Failure | null>(null);

  async function read(event: Event & { currentTarget: HTMLInputElement }) {
    const file = event.currentTarget.files?.[0];
    if (!file) return;
    seen = null;
    failure = null;
    try {
      text = await file.text();
      seen = await client().compareTargets(text);
    } catch (error) {
      failure = failureOf(error);
    }
  }
</script>

<FormDialog
  title="Set all targets of a set"
  about="A set is a file with the versions that belong together, by family. It is compared with the fleet first; nothing is set until you say so."
  word="Set these targets"
  {onclose}
  send={() => client().setTargets(text)}
>
  <label class="label"
    ><span class="label-text">File of the set (YAML)</span><input
      class="input"
      type="file"
      accept=".yaml,.yml,text/yaml"
      required
      onchange={read}
    /></label
  >
  {#if failure}<Trouble {failure} />{/if}
  {#if seen}
    <p role="status">
      <b>{seen.set}</b>{seen.note ? `: ${seen.note}` : ''}. {seen.there} of {seen.devices} devices are there.
    </p>
    <div class="wide">
      <table class="list">
        <thead
          ><tr
            ><th>Family</th><th>Version</th><th>For</th><th class="num">Devices</th><th class="num">There</th><th class="num">Behind</th><th
              class="num">Else</th
            ></tr
          ></thead
        >
        <tbody>
          {#each seen.rules as rule, i (i)}
            {@const behind = rule.oneImage + rule.moreImages}
            <tr title={rule.remarks.join('; ')}>
              <td>{rule.title}</td>
              <td class="mono"
                >{rule.version}{#if rule.remarks.length > 0}<span class="care">&#32;no image</span>{/if}</td
              >
              <td class="quiet">{rule.scope}</td>
              <td class="num">{rule.devices}</td>
              <td class="num">{rule.there}</td>
              <td class="num">{behind}</td>
              <td class="num">{rule.devices - rule.there - behind}</td>
            </tr>
            {#each rule.notReached as n, nth (nth)}
              <tr><td></td><td colspan="6" class="quiet">cannot get there: {n.why} ({n.names.join(', ')})</td></tr>
            {/each}
          {/each}
        </tbody>
      </table>
    </div>
    {#if seen.without.length > 0}
      <p class="quiet">It says nothing of {seen.without.map((w) => `${w.title} (${w.devices})`).join(', ')}; their targets stay.</p>
    {/if}
  {/if}
</FormDialog>

<style>
  input[type='file'] {
    height: auto;
    padding: 0.3rem 0.5rem;
    line-height: 1.6;
  }
  .wide {
    overflow-x: auto;
  }
</style>
