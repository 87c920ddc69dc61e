import { describe, expect, it } from '@jest/globals';
import { operatorReach } from '../../src/agent/settings.js';

describe('what the operator’s settings open', () => {
  const names: Record<string, string[]> = {
    'registry.lane.example': ['10.1.2.3', 'fd00::5'],
    'proxy.here.example': ['127.0.0.1'],
  };
  const reach = (settings: Record<string, string>) => operatorReach(settings, async (name) => names[name] ?? []);

  it.each([
    ['nothing without addresses', { NO_COLOR: '1', TEXT: 'a http://127.0.0.1:1 inside' }, { reach: [], through: [] }],
    [
      'a port of this machine',
      { npm_config_registry: 'http://127.0.0.1:4873/' },
      { reach: [{ port: 4873, host: '127.0.0.1' }], through: [] },
    ],
    [
      'a port by name',
      { HTTPS_PROXY: 'http://proxy.here.example:3128' },
      { reach: [{ port: 3128, host: 'proxy.here.example' }], through: [] },
    ],
    ['localhost', { A: 'http://localhost:81' }, { reach: [{ port: 81, host: 'localhost' }], through: [] }],
    [
      'the usual ports',
      { A: 'https://localhost/x', B: 'http://[::1]/' },
      {
        reach: [
          { port: 443, host: 'localhost' },
          { port: 80, host: '::1' },
        ],
        through: [],
      },
    ],
    [
      'another machine',
      { A: 'https://registry.lane.example/npm/', B: 'https://registry.lane.example' },
      { reach: [], through: ['10.1.2.3', 'fd00::5'] },
    ],
    ['an address of another machine', { A: 'http://192.168.7.9:8080' }, { reach: [], through: ['192.168.7.9'] }],
    ['nothing for a name that is not known', { A: 'http://nowhere.example' }, { reach: [], through: [] }],
    ['nothing for a broken address', { A: 'http://', B: 'https://[' }, { reach: [], through: [] }],
    [
      'the same port once',
      { http_proxy: 'http://127.0.0.1:3128', HTTP_PROXY: 'http://127.0.0.1:3128' },
      { reach: [{ port: 3128, host: '127.0.0.1' }], through: [] },
    ],
  ])('%s', async (_what, settings, expected) => {
    expect(await reach(settings as Record<string, string>)).toEqual(expected);
  });
});
