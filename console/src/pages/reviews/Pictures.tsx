/** What changed, as one sees it: each page beside the same page where the change leads to, with what differs framed. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { shareText } from '../../../../src/core/pictures/pages';
import type { EnvironmentDetail } from '../../../../src/wire/environments/environments';
import type { Picture, PictureImage, PictureList, PicturePage } from '../../../../src/wire/environments/pictures';
import { get, paths, post } from '../../data/api';
import { Ago, Button, Trouble } from '../../parts/basics';

/** Nothing where no pictures are taken: of a standing environment that asks for none. */
export function Pictures({ one }: { one: EnvironmentDetail }) {
  const path = `${paths.environment(one.project, one.name)}/pictures`;
  const key = ['pictures', one.project, one.name];
  const client = useQueryClient();
  const list = useQuery({ queryKey: key, queryFn: () => get<PictureList>(path) });
  const again = useMutation({
    mutationFn: () => post<PictureList>(path),
    onSuccess: (data) => client.setQueryData(key, data),
  });
  const items = list.data?.items ?? [];
  const [newest] = items;
  if (!newest) return null;
  const shown = items.find((each) => each.pages.length) ?? null;
  return (
    <section className="card mb-3.5 px-5 py-3.5" aria-label="What changed">
      <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <h2 className="font-semibold">{one.review ? 'What changed' : 'How it looks'}</h2>
        <p className="min-w-0 flex-1 basis-64 text-second">
          <Words newest={newest} shown={shown} able={list.data?.able ?? true} />
        </p>
        {newest.state === 'asked' || newest.state === 'taking' || !one.live ? null : (
          <Button size="small" disabled={again.isPending} onClick={() => again.mutate()}>
            Take it again
          </Button>
        )}
      </div>
      {newest.state === 'failed' && newest.issue ? (
        <p className="mt-1 text-vermilion">
          {newest.issue.says} <span className="text-second">{newest.issue.next}</span>
        </p>
      ) : null}
      {again.error ? <Trouble error={again.error} /> : null}
      {shown?.pages.map((page) => (
        <PageOf key={page.path} page={page} picture={shown} only={shown.pages.length === 1} />
      ))}
    </section>
  );
}

function Words({ newest, shown, able }: { newest: Picture; shown: Picture | null; able: boolean }) {
  const coming =
    newest.state === 'taking'
      ? 'A picture is being taken.'
      : newest.state === 'asked'
        ? able
          ? 'A picture is taken in a moment.'
          : 'No agent takes pictures: one with Chromium that takes what is untrusted would.'
        : null;
  const old = shown && shown.id !== newest.id ? `Of r${shown.release}, the one before. ` : '';
  return (
    <>
      {coming ? `${coming} ` : ''}
      {shown ? (
        <>
          {old}
          {shown.share === null
            ? ''
            : shown.share === 0
              ? `It looks the same as ${besideText(shown)}. `
              : `It differs from ${besideText(shown)} by ${shareText(shown.share)}. `}
          {shown.takenAt && newest.state !== 'taking' ? (
            <>
              Taken <Ago at={shown.takenAt} />.
            </>
          ) : null}
        </>
      ) : null}
    </>
  );
}

const besideText = ({ beside }: Picture): string => (beside ? `${beside.environment} (r${beside.release})` : 'before');

function PageOf({ page, picture, only }: { page: PicturePage; picture: Picture; only: boolean }) {
  const { images, share, restless, areas } = page;
  const now = images.marked ?? images.after;
  const places = areas.length === 1 ? '1 place differs' : `${areas.length} places differ`;
  return (
    <figure className="mt-3">
      <figcaption className="mb-1.5 flex flex-wrap items-baseline gap-x-3 text-[13px] text-second">
        {only && page.path === '/' ? <span>The first page</span> : <span className="code">{page.path}</span>}
        {share === null || only ? null : <span>{share === 0 ? 'the same' : `differs by ${shareText(share)}`}</span>}
        {share ? <span>{places}, framed</span> : null}
        {restless >= 0.001 ? (
          <span title="It is not the same from one look to the next: a clock, for example.">
            {shareText(restless)} moves by itself and was not compared
          </span>
        ) : null}
        {page.after.status !== null && page.after.status >= 400 ? (
          <span className="text-vermilion">answers {page.after.status}</span>
        ) : null}
      </figcaption>
      {images.before && now && share !== 0 ? (
        <div className="grid gap-3.5 lg:grid-cols-2">
          <Side title={picture.beside ? `${picture.beside.environment}, r${picture.beside.release}` : 'before'}>
            <Shot image={images.before} alt={`${page.path} before the change`} />
          </Side>
          <Side title={`this change, r${picture.release}`}>
            <Shot image={now} alt={`${page.path} with the change: ${places}`} whole={images.after} />
          </Side>
        </div>
      ) : now ? (
        <div className="lg:w-1/2">
          <Shot image={share === 0 ? (images.after ?? now) : now} alt={`${page.path} of r${picture.release}`} />
        </div>
      ) : (
        <p className="text-second">
          {picture.state === 'taken' && !page.after.why
            ? 'Its pictures were older than a week, and are gone.'
            : `No picture of it: ${page.after.why ?? 'there is none'}.`}
        </p>
      )}
      {page.before?.why ? <p className="mt-1 text-second">Nothing to compare with: {page.before.why}.</p> : null}
    </figure>
  );
}

function Side({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <div>
      <p className="mb-1 text-[13px] font-semibold">{title}</p>
      {children}
    </div>
  );
}

/** Opens whole in a tab of its own, without what is marked. */
function Shot({ image, alt, whole }: { image: PictureImage; alt: string; whole?: PictureImage | null }) {
  return (
    <a href={(whole ?? image).url} target="_blank" rel="noreferrer" className="block">
      <img
        src={image.url}
        alt={alt}
        width={image.width}
        height={image.height}
        loading="lazy"
        className="h-auto max-h-[480px] w-full rounded-md border border-line bg-white object-cover object-top"
      />
    </a>
  );
}

/** The top of the first page, small; for lists. */
export function SmallPicture({ small, of }: { small: string | null; of: string }) {
  return small ? (
    <img
      src={small}
      alt={`How ${of} looks`}
      width={320}
      height={200}
      loading="lazy"
      className="h-auto w-36 rounded-md border border-line bg-white"
    />
  ) : null;
}
