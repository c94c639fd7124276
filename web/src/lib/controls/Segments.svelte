<script lang="ts" generics="T extends string">
  /** A few choices side by side, one of them in force. */
  interface Props {
    label: string;
    options: readonly (readonly [T, string, string?])[];
    value: T;
    change: (value: T) => void;
  }
  let { label, options, value, change }: Props = $props();

  /** Arrows walk the choices where the keyboard brought the focus; elsewhere they walk the path. */
  function keys(event: KeyboardEvent & { currentTarget: HTMLElement }): void {
    const turn = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
    if (!turn || !event.currentTarget.matches(':focus-visible')) return;
    event.preventDefault();
    event.stopPropagation();
    const at = options.findIndex(([name]) => name === value) + turn + options.length;
    const next = at % options.length;
    change(options[next]![0]);
    (event.currentTarget.parentElement!.children[next] as HTMLElement).focus();
  }
</script>

<div class="segments" role="radiogroup" aria-label={label}>
  {#each options as [name, text, hint] (name)}
    <button
      role="radio"
      tabindex={value === name ? 0 : -1}
      aria-checked={value === name}
      class:on={value === name}
      title={hint}
      onclick={(event) => {
        change(name);
        if (event.detail) event.currentTarget.blur(); // by hand: the arrows go on walking the path
      }}
      onkeydown={keys}
    >
      {text}
    </button>
  {/each}
</div>

<style>
  .segments {
    display: flex;
    border: 1px solid var(--line);
    background: var(--plate);
  }
  button {
    height: 1.625rem;
    padding: 0 12px;
    border-width: 0;
  }
  button + button {
    border-left: 1px solid var(--line);
  }
  .on {
    background: var(--ink);
    color: var(--plate);
    font-weight: 600;
  }
</style>
