<script lang="ts">
  /** A setting of an object of the session as a rule, with what moves it: envelope, section, levers; it rides while it plays. */
  import type { Setting, SettingValue } from '../api/client';
  import Slider from '../controls/Slider.svelte';
  import { toShare } from '../controls/value';
  import { frames } from '../draw/frames';
  import { automation } from '../state/automation.svelte';
  import type { Address } from '../state/course';
  import { slots } from '../state/slots.svelte';
  import { workspace } from '../state/workspace.svelte';

  interface Props {
    address: Address;
    setting?: Setting;
    value: SettingValue;
    of?: string;
    mark?: string;
    now?: SettingValue;
    bare?: boolean;
  }
  let { address, setting, value, of, mark, now, bare = false }: Props = $props();

  const told = $derived(setting ?? automation.setting(address)!);
  const moved = $derived(automation.of(address));
  /** Where it is read off the course while it plays: followed where the value moves by an amount that shows. The value itself is
   * derived, so that it is never older than the document. */
  let riding_s = $state<number | null>(null);
  /** What the hand has made of it, until that has come back from the server. */
  let written = $state<number | null>(null);
  let pressed = false;
  const rides = $derived(Boolean(moved?.times_s.length));
  $effect(() => {
    if (!rides) return;
    return frames.add(() => {
      const next_s = workspace.listening.sounding ? workspace.listening.heardPosition() : null;
      if (next_s === null || riding_s === null || Math.abs(shareAt(next_s) - shareAt(riding_s)) > 0.002)
        riding_s = next_s;
    });
  });
  const shareAt = (at_s: number): number => toShare(automation.valueAt(moved!, at_s), told);
  const shown = $derived.by(() => {
    if (!moved || typeof value !== 'number') return value;
    if (written !== null) return written;
    if (workspace.listening.sounding && rides && riding_s !== null)
      return automation.valueAt(moved, riding_s);
    return automation.shown(address, value);
  });

  const passage = $derived(workspace.listening.passage);
  /** The course over the passage in small, in shares of the width and of the scale. */
  const course = $derived.by((): [number, number][] | null => {
    if (!moved || !rides) return null;
    const { start_s, end_s } = passage;
    const inside = moved.times_s.map((at, n) => [at, moved.values[n]!] as const);
    const points = [
      [start_s, automation.valueAt(moved, start_s)] as const,
      ...inside.filter(([at]) => at > start_s && at < end_s),
      [end_s, automation.valueAt(moved, end_s - 1e-6)] as const,
    ];
    return points.map(([at, one]) => [(at - start_s) / (end_s - start_s), toShare(one, told)]);
  });
  const range = $derived.by((): [number, number] | null => {
    const ends = (moved?.levers ?? []).flatMap(({ low, high }) => [low, high]);
    return ends.length && !moved!.on ? [Math.min(...ends), Math.max(...ends)] : null;
  });

  function put(next: SettingValue, gesture: string | null): void {
    if (typeof next !== 'number') return;
    written = next;
    workspace.move(address.of, address.id, { [address.name]: next }, gesture);
  }
  $effect(() => {
    if (!workspace.saving && !pressed) written = null;
  });
  function hold(on: boolean): void {
    pressed = on;
    automation.hold(address, on);
    if (!on && !workspace.saving) written = null;
  }
</script>

<Slider
  setting={told}
  value={shown}
  {of}
  {mark}
  now={moved ? undefined : now}
  {bare}
  differs={address.of === 'step' && slots.differs(address.id ?? '', address.name)}
  change={put}
  {hold}
  {course}
  {range}
  place={automation.mover(address)}
  menu={automation.canMove(address) ? () => (automation.menu = address) : undefined}
/>
