import { expect, test } from 'vitest';
import { coming } from './coming.svelte';

test('what is added while something is on its way goes behind it, also where that was refused', async () => {
  const order: string[] = [];
  let index = 0;
  const place = () => ({ lane_id: null, index });
  let answer: () => void = () => undefined;
  const first = coming.add('Gate', place, async (at) => {
    await new Promise<void>((resolve) => (answer = resolve));
    order.push(`Gate at ${at.index}`);
    index += 1;
  });
  const second = coming.add('Clipper', place, async (at) => {
    order.push(`Clipper at ${at.index}`);
    return Promise.reject(new Error('refused'));
  });
  const third = coming.add('Trim', place, async (at) => void order.push(`Trim at ${at.index}`));
  await Promise.resolve();
  expect(coming.step).toEqual({ name: 'Gate', place: { lane_id: null, index: 0 } });
  answer();
  await first;
  await expect(second).rejects.toThrow('refused');
  await third;
  await coming.settled;
  expect(order).toEqual(['Gate at 0', 'Clipper at 1', 'Trim at 1']);
  expect(coming.step).toBeNull();
});
