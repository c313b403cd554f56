import { describe, expect, it } from 'vitest';
import { patched } from './patch';

describe('a JSON Patch', () => {
  it('adds, replaces and removes at its places', () => {
    const was = { a: 1, 'b/c': { '~': [1, 2, 3] }, gone: true };
    const now = patched(was, [
      { op: 'replace', path: '/a', value: 2 },
      { op: 'remove', path: '/b~1c/~0/2' },
      { op: 'add', path: '/b~1c/~0/-', value: 4 },
      { op: 'add', path: '/b~1c/~0/0', value: 0 },
      { op: 'remove', path: '/gone' },
      { op: 'add', path: '/new', value: { x: null } },
    ]);
    expect(now).toEqual({ a: 2, 'b/c': { '~': [0, 1, 2, 4] }, new: { x: null } });
    expect(was).toEqual({ a: 1, 'b/c': { '~': [1, 2, 3] }, gone: true });
  });

  it('moves within a list and out of it', () => {
    const was = { list: [{ id: 1 }, { id: 2 }, { id: 3 }] };
    const now = patched(was, [
      { op: 'move', from: '/list/2', path: '/list/0' },
      { op: 'move', from: '/list/1', path: '/kept' },
    ]);
    expect(now).toEqual({ list: [{ id: 3 }, { id: 2 }], kept: { id: 1 } });
    expect(was.list.map((l) => l.id)).toEqual([1, 2, 3]);
  });

  it('leaves what it does not touch as it is', () => {
    const was = { left: { x: [1] }, right: { y: [2] } };
    const now = patched(was, [{ op: 'replace', path: '/right/y/0', value: 3 }]) as typeof was;
    expect(now.left).toBe(was.left);
    expect(now.right).not.toBe(was.right);
  });

  it('replaces the whole, and refuses what does not fit', () => {
    expect(patched({ a: 1 }, [{ op: 'replace', path: '', value: [1] }])).toEqual([1]);
    expect(() => patched({ a: 1 }, [{ op: 'add', path: '/a/b', value: 1 }])).toThrow('/a/b');
  });
});
