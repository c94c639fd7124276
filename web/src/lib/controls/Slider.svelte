<script lang="ts">
  /** A setting as a short scale: ticks at values that mean something, a wedge at the value, the number beside it. */
  import type { Setting, SettingValue } from '../api/client';
  import { valueWheel } from '../draw/wheel';
  import { pressGestures } from './arrows';
  import { startsTyping } from './typing';
  import SliderMarks from './SliderMarks.svelte';
  import TypedValue from './TypedValue.svelte';
  import { clamp, formatSetting, fromShare, tidy, toShare } from './value';

  interface Props {
    setting: Setting;
    value: SettingValue;
    /** gesture: a word that all values of one drag share, and no others; null for a single act. */
    change: (value: SettingValue, gesture: string | null) => void;
    /** Told apart from rules of the same setting elsewhere: whose it is, and a mark of its own. */
    of?: string;
    mark?: string;
    /** What it is at present where something else than the document decides: low latency, or loudness compensation. */
    now?: SettingValue;
    /** It is not the same in all slots. */
    differs?: boolean;
    /** In a table the column and the row say what it is. */
    bare?: boolean;
    /** Told when the hand takes hold of it and lets go. */
    hold?: (on: boolean) => void;
    /** Opens what can be done with the value over time. */
    menu?: () => void;
    /** What moves it, in a word: a section, an envelope, a lever. */
    place?: string | null;
    /** What levers make of it from one end to the other. */
    range?: [number, number] | null;
    /** Its course in small: shares of the width and of the scale. */
    course?: [number, number][] | null;
  }
  let {
    setting,
    value,
    change,
    of,
    mark,
    now,
    differs = false,
    bare = false,
    hold,
    menu,
    place = null,
    range = null,
    course = null,
  }: Props = $props();
  const name = $derived(of ? `${setting.label}, ${of}` : setting.label);

  let scale = $state<HTMLElement | null>(null);
  let typing = $state<string | null>(null);
  let dragged = $state<number | null>(null);
  let grip = $state.raw<{ x: number; share: number } | null>(null);
  let before = 0;
  /** Of a drag with Shift. */
  const FINE = 1 / 8;
  let gesture = '';
  const pressed = pressGestures();

  const number = $derived(dragged ?? (typeof value === 'number' ? value : 0));
  const share = $derived(toShare(number, setting));
  const shown = $derived(formatSetting(number, setting));
  const helpId = $props.id();
  const spoken = $derived(
    [
      shown,
      typeof now === 'number' ? `now ${formatSetting(now, setting)}` : '',
      place ? `moved by ${place}` : '',
    ]
      .filter(Boolean)
      .join(', '),
  );

  function put(wanted: number, how: string | null): void {
    const tidied = tidy(clamp(wanted, setting.minimum ?? 0, setting.maximum ?? 1), setting.unit);
    change(clamp(tidied, setting.minimum ?? 0, setting.maximum ?? 1), how);
  }

  function press(event: PointerEvent): void {
    if (event.button !== 0 || !scale) return;
    scale.setPointerCapture(event.pointerId);
    scale.focus();
    gesture = crypto.randomUUID();
    grip = { x: event.clientX, share };
    before = number;
    hold?.(true);
  }

  function follow(event: PointerEvent): void {
    if (!grip || !scale?.hasPointerCapture(event.pointerId) || event.clientX === grip.x) return;
    // From where it was taken hold of: neither the press nor a change to fine makes it jump.
    const moved = (event.clientX - grip.x) / scale.getBoundingClientRect().width;
    grip = { x: event.clientX, share: clamp(grip.share + moved * (event.shiftKey ? FINE : 1), 0, 1) };
    const wanted = tidy(fromShare(grip.share, setting), setting.unit);
    if (wanted === dragged) return;
    dragged = wanted;
    put(wanted, gesture);
  }

  function release(): void {
    if (grip) hold?.(false);
    dragged = grip = null;
  }

  /** Back to where it was before the drag. */
  function cancel(): void {
    if (grip && dragged !== null) put(before, gesture);
    release();
  }

  function nudge(steps: number, event: { shiftKey: boolean; ctrlKey: boolean }, how: string | null): void {
    const size = event.shiftKey ? 0.002 : event.ctrlKey ? 0.1 : 0.01;
    const before = number;
    let next = fromShare(toShare(before, setting) + steps * size, setting);
    const least = setting.unit === 'dB' ? 0.1 : 0;
    if (setting.unit === 'dB') next = before + steps * (event.shiftKey ? 0.1 : event.ctrlKey ? 3 : 0.5);
    if (Math.abs(next - before) < least) next = before + Math.sign(steps) * least;
    put(next, how);
  }

  const wheel = valueWheel((steps, { shiftKey }, how) => nudge(steps, { shiftKey, ctrlKey: false }, how));

  function keys(event: KeyboardEvent): void {
    if (event.key === 'Escape' && grip) {
      event.preventDefault();
      event.stopPropagation();
      return cancel();
    }
    const steps = { ArrowRight: 1, ArrowUp: 1, ArrowLeft: -1, ArrowDown: -1 }[event.key];
    if (steps) {
      nudge(steps, event, pressed());
    } else if (event.key === 'Home') put(setting.minimum ?? 0, null);
    else if (event.key === 'End') put(setting.maximum ?? 1, null);
    else if (event.key === 'Enter' || startsTyping(event.key))
      typing = event.key === 'Enter' ? '' : event.key;
    else return;
    event.preventDefault();
    event.stopPropagation();
  }
</script>

<div class="rule" class:bare title={setting.help}>
  <span id={helpId} hidden>{setting.help}</span>
  <span class="label" class:differs
    ><span class="words">{bare ? '' : setting.label}</span>{#if place && !bare}<button
        class="place"
        tabindex="-1"
        title="{setting.label} is moved by: {place}. Click for more"
        onclick={menu}>{place}</button
      >{:else if menu && !bare}<button
        class="over-time"
        tabindex="-1"
        aria-label="{name} over time"
        title="Over time, by section or by a lever (right click, or the Menu key)"
        onclick={menu}><svg viewBox="0 0 12 8" aria-hidden="true"><path d="M0 7 H3 L7 1 H12" /></svg></button
      >{/if}</span
  >
  <TypedValue
    bind:typing
    {setting}
    {name}
    {shown}
    {bare}
    take={(value) => put(value, null)}
    done={() => scale?.focus()}
  />
  <div
    class="scale"
    role="slider"
    tabindex="0"
    aria-label={name}
    aria-describedby={helpId}
    aria-valuemin={setting.minimum}
    aria-valuemax={setting.maximum}
    aria-valuenow={number}
    aria-valuetext={spoken}
    title="{setting.help} Drag; the wheel moves it while it has the focus, or with Ctrl."
    data-dragging={grip ? '' : undefined}
    oncontextmenu={(event) => {
      if (!menu) return;
      event.preventDefault();
      menu();
    }}
    data-setting={mark ?? setting.name}
    bind:this={scale}
    {@attach wheel}
    onpointerdown={press}
    onpointermove={follow}
    onpointerup={release}
    onpointercancel={cancel}
    onkeydown={keys}
    ondblclick={() => {
      release();
      put(Number(setting.default), null);
    }}
  >
    <SliderMarks {setting} {share} {now} {range} {course} />
  </div>
</div>

<style>
  .rule {
    position: relative;
    display: grid;
    grid-template-columns: minmax(0, 1fr) auto;
    column-gap: 4px;
    align-items: baseline;
    height: 2.0625rem;
  }
  .label {
    display: flex;
    min-width: 0;
    white-space: nowrap;
    overflow: hidden;
  }
  .words {
    flex: 0 1 auto;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .scale {
    grid-column: 1 / -1;
    position: relative;
    height: 13px;
    cursor: ew-resize;
    touch-action: none;
    /* A selection that a drag began would be dragged itself by the next. */
    user-select: none;
  }
  .place,
  .over-time {
    border: 0;
    height: 1rem;
    padding: 0 4px;
    margin-left: 3px;
    line-height: 1rem;
    font-size: 0.6875rem;
  }
  .place {
    flex: 0 2 auto;
    min-width: 1.75rem;
    overflow: hidden;
    text-overflow: ellipsis;
    color: var(--after);
    font-weight: 650;
  }
  .over-time {
    flex: none;
    width: 0;
    margin: 0;
    padding: 0;
    overflow: hidden;
  }
  .over-time svg {
    width: 12px;
    height: 8px;
    fill: none;
    stroke: var(--ink-soft);
    stroke-width: 1.25;
  }
  .rule:hover .over-time,
  .rule:focus-within .over-time {
    width: auto;
    padding: 0 4px;
  }
  /* In a table: the scale and the number side by side. */
  .bare {
    height: 1.25rem;
    grid-template-columns: minmax(0, 1fr) 3.625rem;
    align-items: center;
    column-gap: 6px;
  }
  .bare .label {
    display: none;
  }
  .bare .scale {
    grid-column: 1;
    grid-row: 1;
  }
</style>
