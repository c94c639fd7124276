import { expect, test } from 'vitest';
import { addressOf, hashOf, titleOf } from './address';

test('each view of each session has an address that leads back to it', () => {
  for (const address of [
    { session: 3, view: 'map' as const },
    { session: 12, view: 'shape' as const },
  ])
    expect(addressOf(hashOf(address))).toEqual(address);
  expect(addressOf('#/3')).toEqual({ session: 3, view: 'shape' });
  for (const other of ['', '#', '#/x/map', '#/3/nowhere/']) expect(addressOf(other).view).toBe('shape');
  expect(titleOf('Low Water', 'map')).toBe('Low Water, Map - Salt Anvil');
});
