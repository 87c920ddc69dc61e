/** The deployments of an environment. */
import type { Deployment, EnvironmentDetail } from '../../../../src/wire/environments/environments';
import { Ago, Button, DeploymentLink, ReleaseLink } from '../../parts/basics';
import { Mark } from '../../parts/Mark';

const how: Record<string, string> = {
  automatic: 'automatic',
  deploy: 'deployed',
  promote: 'promoted',
  revert: 'reverted to',
};

export function History({
  one,
  busy,
  again,
  most = Number.POSITIVE_INFINITY,
}: {
  one: EnvironmentDetail;
  busy: boolean;
  /** Deploys again what one brought. */
  again: (deployment: number) => void;
  /** The newest of them, and the one that a revert goes back to. */
  most?: number;
}) {
  const target = one.history.find((item) => item.number === one.revertsTo?.deployment);
  return (
    <section className="card overflow-x-auto px-3.5 py-3.5 sm:px-5" aria-label="History">
      <h2 className="mb-1 font-semibold">History</h2>
      <table className="w-full border-collapse text-left">
        <tbody>
          {one.history
            .filter((item, at) => at < most || item === target)
            .map((item) => (
              <HistoryRow key={item.number} item={item} busy={busy || one.moving !== null} again={again} />
            ))}
        </tbody>
      </table>
    </section>
  );
}

function HistoryRow({ item, busy, again }: { item: Deployment; busy: boolean; again: (deployment: number) => void }) {
  const by = item.kind === 'automatic' ? '' : ` by ${item.actor}`;
  const state = `${item.state} · ${item.undoes ? 'undid a revert,' : how[item.kind]}${by}`;
  return (
    <tr className="border-b border-faint last:border-0">
      <td className="py-2 pr-4">
        <span className="flex items-center gap-2">
          <Mark state={item.state} />
          <DeploymentLink project={item.project} number={item.number} />
        </span>
      </td>
      <td className="code py-2 pr-3 font-semibold">
        <ReleaseLink project={item.project} number={item.release} />
      </td>
      <td className="max-w-md py-2 pr-3">
        <span className="block sm:truncate">{item.commit.title}</span>
        <span className="block text-[13px] text-second sm:hidden">
          {state} · <Ago at={item.createdAt} />
        </span>
        {item.failure ? <span className="block text-vermilion">{item.failure.says}</span> : null}
      </td>
      <td className="py-2 pr-3 whitespace-nowrap text-second max-sm:hidden">{state}</td>
      <td className="py-2 pr-3 text-second max-sm:hidden">
        <Ago at={item.createdAt} />
      </td>
      <td className="py-1 text-right">
        {item.liveAt && item.state !== 'live' ? (
          <Button
            size="compact"
            disabled={busy}
            onClick={() => again(item.number)}
            title={`r${item.release} with the plain variables that d${item.number} had; secrets are those of now.`}
          >
            Deploy again
          </Button>
        ) : null}
      </td>
    </tr>
  );
}
