import { expect, test } from 'vitest';
import type { Delivery, Edit, Session, Version } from '../api/client';
import { previewed } from './document';

const setup = { formats: ['wav24'], true_peak_dbtp: -1, pattern: '{session}' } as unknown as Delivery;
const version = { session: { name: 'Quay', strips: [], levers: [], delivery: setup } } as unknown as Version;
const edit = (values: Partial<Delivery>): Edit => ({ op: 'set_delivery', values });

test('how a delivery is set up shows before the server has it, each part by itself', () => {
  const shown = previewed(version, [edit({ formats: ['mp3-256'] }), edit({ true_peak_dbtp: -0.3 })]);
  expect(shown.session.delivery).toEqual({ ...setup, formats: ['mp3-256'], true_peak_dbtp: -0.3 });
  expect((version.session as Session).delivery).toBe(setup);
  const name: Edit = { op: 'set', values: [{ of: 'session', id: null, name: 'name', value: 'Pier' }] };
  const both = previewed(version, [edit({ pattern: '{strip}' }), name]);
  expect([both.session.name, both.session.delivery.pattern]).toEqual(['Pier', '{strip}']);
});
