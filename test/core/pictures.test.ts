/** What differs between two pages, by pixels that are known; and what becomes of a picture, whatever happens to it. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { PNG } from 'pngjs';
import { type Bitmap, comparePages, framed, smallOf } from '../../src/core/pictures/compare.js';
import { pagesOf, shareOf, shareText } from '../../src/core/pictures/pages.js';
import { pngSize } from '../../src/core/pictures/png.js';
import { mostPictureTries, type PictureFacts, pictureStep } from '../../src/core/pictures/steps.js';
import { type AttemptState, type PictureState, pictureStates } from '../../src/core/states.js';

type Box = [x: number, y: number, width: number, height: number, colour: [number, number, number]];
const black: [number, number, number] = [0, 0, 0];

/** A white page with boxes. */
function page(boxes: Box[], width = 640, height = 480): Bitmap {
  const data = new Uint8Array(width * height * 4).fill(255);
  for (const [left, top, w, h, colour] of boxes)
    for (let y = top; y < top + h; y++)
      for (let x = left; x < left + w; x++) data.set([...colour, 255], (y * width + x) * 4);
  return { width, height, data };
}
const twice = (one: Bitmap): [Bitmap, Bitmap] => [one, one];
const pixel = ({ width, data }: Bitmap, x: number, y: number) => [
  ...data.subarray((y * width + x) * 4, (y * width + x) * 4 + 4),
];

describe('two pages', () => {
  it('that are the same differ nowhere', () => {
    const one = page([[10, 10, 100, 40, black]]);
    const found = comparePages(twice(one), twice(page([[10, 10, 100, 40, black]])));
    expect([found.share, found.restless, found.areas]).toEqual([0, 0, []]);
    expect(pixel(found.marked, 20, 20)).toEqual([179, 179, 179, 255]);
  });

  it('differ by the pixels that do, in areas around what lies together', () => {
    const before = page([[10, 10, 100, 40, black]]);
    const after = page([
      [10, 10, 100, 40, black],
      [300, 200, 64, 32, black],
      [320, 236, 10, 4, black],
      [500, 400, 20, 20, [200, 0, 0]],
    ]);
    const found = comparePages(twice(before), twice(after));
    expect(found.share).toBeCloseTo((64 * 32 + 40 + 400) / (640 * 480), 4);
    expect(found.areas).toEqual([
      { x: 300, y: 200, width: 64, height: 40 },
      { x: 500, y: 400, width: 20, height: 20 },
    ]);
    // Framed and tinted where it differs, faint elsewhere.
    expect(pixel(found.marked, 293, 220)).toEqual([204, 51, 0, 255]);
    expect(pixel(found.marked, 310, 210)).toEqual([16, 4, 0, 255]);
    expect(pixel(found.marked, 20, 20)).toEqual([179, 179, 179, 255]);
  });

  it('are not compared where one differs by itself', () => {
    const clock = (x: number, more: Box[] = []) => page([[x, 10, 30, 12, black], ...more]);
    const word: Box = [400, 300, 40, 16, black];
    const still = comparePages([clock(10), clock(18)], [clock(14), clock(22)]);
    expect([still.share, still.areas]).toEqual([0, []]);
    expect(still.restless).toBeGreaterThan(0);
    expect(still.restless).toBeLessThan(0.02);
    const changed = comparePages([clock(10), clock(18)], [clock(14, [word]), clock(22, [word])]);
    expect(changed.areas).toEqual([{ x: 400, y: 300, width: 40, height: 16 }]);
    // All of it moves: nothing is left to be compared.
    const wild = (colour: [number, number, number]) => page([[0, 0, 640, 480, colour]]);
    const all = comparePages([wild(black), wild([255, 0, 0])], [wild([0, 255, 0]), wild([0, 0, 255])]);
    expect([all.share, all.restless]).toEqual([0, 1]);
  });

  it('differ where one is longer, whatever that shows', () => {
    const found = comparePages(twice(page([])), twice(page([], 640, 600)));
    expect(found.share).toBeCloseTo(120 / 600, 6);
    expect(found.areas).toEqual([{ x: 0, y: 480, width: 640, height: 120 }]);
    expect([found.marked.width, found.marked.height]).toEqual([640, 600]);
    // The other way round, too: what was there has gone.
    expect(comparePages(twice(page([], 640, 600)), twice(page([]))).share).toBeCloseTo(120 / 600, 6);
  });

  it('give shares between 0 and 1, and areas within the page, whatever is on them', () => {
    const boxes = fc.array(
      fc.tuple(
        fc.integer({ min: 0, max: 60 }),
        fc.integer({ min: 0, max: 60 }),
        fc.integer({ min: 1, max: 36 }),
        fc.integer({ min: 1, max: 36 }),
        fc.tuple(...[0, 1, 2].map(() => fc.integer({ min: 0, max: 255 }))) as fc.Arbitrary<[number, number, number]>,
      ),
      { maxLength: 5 },
    );
    const pages = fc.tuple(boxes, fc.integer({ min: 96, max: 120 })).map(([all, h]) => page(all as Box[], 96, h));
    fc.assert(
      fc.property(pages, pages, pages, pages, (b1, b2, a1, a2) => {
        const { share, restless, areas, marked } = comparePages([b1, b2], [a1, a2]);
        for (const one of [share, restless]) {
          expect(one).toBeGreaterThanOrEqual(0);
          expect(one).toBeLessThanOrEqual(1);
        }
        expect(areas.length === 0).toBe(share === 0);
        for (const { x, y, width, height } of areas) {
          expect([x, y, width - 1, height - 1].every((one) => one >= 0)).toBe(true);
          expect([x + width <= marked.width, y + height <= marked.height]).toEqual([true, true]);
        }
        // The same from both sides.
        expect(comparePages([a1, a2], [b1, b2]).restless).toBe(restless);
      }),
      { numRuns: 60 },
    );
  });

  it('are shown small by the mean of squares, at most one window high', () => {
    const small = smallOf(page([[0, 0, 2, 4, black]], 1280, 1600));
    expect([small.width, small.height]).toEqual([320, 200]);
    expect(pixel(small, 0, 0)).toEqual([128, 128, 128, 255]);
    expect(pixel(small, 1, 0)).toEqual([255, 255, 255, 255]);
    const marked = framed(page([]), [{ x: 100, y: 100, width: 50, height: 50 }], 8);
    expect(pixel(marked, 90, 120)).toEqual([204, 51, 0, 255]);
    expect(pixel(marked, 125, 125)).toEqual([255, 255, 255, 255]);
  });
});

describe('a PNG', () => {
  it('says its size before anything of it is decoded', () => {
    const png = PNG.sync.write(new PNG({ width: 31, height: 7 }));
    expect(pngSize(png)).toEqual({ width: 31, height: 7 });
    expect(pngSize(Buffer.concat([Buffer.from('GIF89a'), png]))).toBeNull();
    expect(pngSize(png.subarray(0, 20))).toBeNull();
    expect(pngSize(Buffer.alloc(0))).toBeNull();
    const huge = Buffer.from(png);
    huge.writeUInt32BE(4_000_000_000, 16);
    expect(pngSize(huge)?.width).toBe(4_000_000_000);
  });
});

describe('pages', () => {
  const parts = (kind: string) => ({ parts: { web: { kind } } }) as never;
  it('of reviews begin with the first one, of others with none; what answers nobody has none', () => {
    expect(pagesOf({ for: 'pull requests' }, parts('server'))).toEqual(['/']);
    expect(pagesOf({ for: 'pull requests' }, parts('worker'))).toEqual([]);
    expect(pagesOf({ for: 'pull requests', pictures: [] }, parts('site'))).toEqual([]);
    expect(pagesOf({ for: null }, parts('site'))).toEqual([]);
    expect(pagesOf({ for: null, pictures: ['/', '/departures'] }, parts('site'))).toEqual(['/', '/departures']);
  });
  it('say their share in a word or two; what differs at all is never none', () => {
    expect([0, 0.0004, 0.0312, 0.5, 1].map(shareText)).toEqual(['0 %', 'less than 0.1 %', '3.1 %', '50 %', '100 %']);
    expect(shareOf([{ share: 0.1 }, { share: null }, { share: 0.3 }])).toBeCloseTo(0.2, 9);
    expect(shareOf([{ share: null }])).toBeNull();
  });
});

describe('a picture', () => {
  const facts = (change: Partial<PictureFacts>): PictureFacts => ({
    state: 'asked',
    shown: true,
    awake: true,
    able: true,
    tries: 0,
    attempt: null,
    ...change,
  });
  const ended = (state: AttemptState) => ({ attempt: { state, why: 'because' } });
  it.each<[string, Partial<PictureFacts>, ReturnType<typeof pictureStep>['do']]>([
    ['is taken when its deployment is shown', {}, 'take'],
    ['waits for an agent that can', { able: false }, 'wait'],
    ['waits while it sleeps', { awake: false }, 'wait'],
    ['is left out when another one is shown', { shown: false }, 'leave out'],
    ['is waited for', { state: 'taking', ...ended('running') }, 'wait'],
    ['ends when another one is shown', { state: 'taking', shown: false, ...ended('waiting') }, 'stop'],
    ['is left out then', { state: 'taking', shown: false, ...ended('stopped') }, 'leave out'],
    ['is kept even then, when it is there', { state: 'taking', shown: false, ...ended('passed') }, 'keep'],
    ['is looked at when it is there', { state: 'taking', ...ended('passed') }, 'keep'],
    ['fails in words', { state: 'taking', ...ended('failed') }, 'fail'],
    ['is begun again when its agent went away', { state: 'taking', ...ended('lost') }, 'again'],
    ['is not begun for ever', { state: 'taking', tries: mostPictureTries - 1, ...ended('lost') }, 'fail'],
    ['stays as it ended', { state: 'taken' }, 'wait'],
  ])('%s', (_, change, expected) => expect(pictureStep(facts(change)).do).toBe(expected));

  it('comes to an end from every state, whatever agents do', () => {
    const attemptStates: AttemptState[] = ['passed', 'failed', 'stopped', 'lost'];
    fc.assert(
      fc.property(
        fc.constantFrom<PictureState>(...pictureStates),
        fc.array(fc.constantFrom(...attemptStates), { minLength: 10, maxLength: 10 }),
        fc.array(fc.boolean(), { minLength: 10, maxLength: 10 }),
        (begin, outcomes, shows) => {
          let [state, tries] = [begin, 0];
          let attempt: PictureFacts['attempt'] = null;
          for (let turn = 0; turn < 10 && (state === 'asked' || state === 'taking'); turn++) {
            const shown = shows[turn] ?? true;
            const step = pictureStep(facts({ state, tries, attempt, shown }));
            if (step.do === 'take') [state, attempt] = ['taking', { state: outcomes[turn] ?? 'lost', why: '' }];
            else if (step.do === 'again') [state, attempt, tries] = ['asked', null, tries + 1];
            else if (step.do === 'keep') state = 'taken';
            else if (step.do === 'fail') state = 'failed';
            else if (step.do === 'leave out') state = 'left out';
            else throw new Error(`it stands still at ${state} by ${step.do}`);
          }
          expect(['taken', 'failed', 'left out']).toContain(state);
        },
      ),
    );
  });
});
