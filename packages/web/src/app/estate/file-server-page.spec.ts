import { describe, expect, it } from 'vitest';
import { now, open, words } from '../../test/stage';

const tested = {
  ok: true,
  message: 'The server answers; not everything is allowed.',
  needs: [
    { right: 'List shares', neededFor: 'to find what there is', missing: false },
    { right: 'Read access lists of plans', neededFor: 'to bring back who may do what', missing: true },
  ],
  remarks: ['2 shares.', 'The account may not do that with the file or folder.'],
  credentialEnds: null,
  found: 2,
};
const address = { kind: 'share', host: 'files-01', port: 445, account: 'keeper', shares: ['plans', 'old drawings'], accessLists: true };
const known = {
  id: 9,
  name: 'Drawing office',
  location: 'Server room',
  address,
  readBy: null,
  credentialEnds: null,
  readAt: now,
  trouble: 'The share does not answer.',
  workloads: [{ id: 3, name: 'plans' }],
};

describe('the connection to a file server', () => {
  it('is tested right by right, and saved', async () => {
    const answers = { listSystems: { rows: [] }, testSystem: tested, addSystem: { id: 9, workloads: [3, 4] } };
    const s = await open('/estate/file-servers/new', { answers });
    expect(words(s.one('aside'))).toContain('Nothing is mounted.');
    await s.click('Connect');
    expect(s.api.of('addSystem')).toEqual([]);
    await s.type('input[name=name]', 'Drawing office');
    await s.type('input[name=host]', 'files-01');
    await s.type('input[name=account]', 'keeper');
    await s.type('input[name=password]', 'gulls');
    await s.type('textarea[name=only]', 'plans\nold drawings');
    s.one<HTMLInputElement>('input[name=access-lists]').click();
    await s.click('Test the connection');
    const body = { name: 'Drawing office', location: '', readBy: null, address, secret: 'gulls' };
    expect(s.api.last('testSystem')?.body).toEqual({ id: null, body });
    expect(words(s.one('aside'))).toContain('Read access lists of plans to bring back who may do what');
    await s.click('Connect');
    expect(s.api.last('addSystem')?.body).toEqual(body);
    expect(s.url()).toBe('/estate');
  });

  it('that is known is filled in without what opens it, and says what ails it', async () => {
    const s = await open('/estate/file-servers/9', { answers: { listSystems: { rows: [known] }, changeSystem: {} } });
    expect(words(s.one('.problem'))).toContain('does not answer');
    expect(s.one<HTMLInputElement>('input[name=password]').value).toBe('');
    await s.click('Save the connection');
    expect(s.api.last('changeSystem')?.body).toEqual({
      name: 'Drawing office',
      location: 'Server room',
      readBy: null,
      address,
      secret: null,
    });
  });
});
