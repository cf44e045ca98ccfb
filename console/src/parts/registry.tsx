// A registry as it is named everywhere: with what its newest check said, and its exception while that counts.
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take, type Schema } from '../api/client';
import { Mark } from './marks';
import { Age } from './time';

export const useRegistries = () => useQuery({ queryKey: ['registries'], queryFn: () => take(api.GET('/api/v1/registries')) });

/** failing is the first step of a check that fails. */
export const failing = (c: Schema['RegistryCheck'] | undefined) => c?.steps.find((s) => s.result === 'fails');

export function RegistryNote({ mark }: { mark: Schema['RegistryMark'] }) {
  return (
    <span className="registry-note">
      <Link to={`/registries/${mark.name}`}>{mark.name}</Link>{' '}
      {mark.exception && (
        <span className="refused">
          <Mark name="refused" /> certificates unchecked, by {mark.exception.owner}{' '}
        </span>
      )}
      {mark.fails ? (
        <span className="refused">
          <Mark name="refused" /> {mark.fails} fails
        </span>
      ) : mark.checked ? (
        <>
          checked <Age of={mark.checked} /> ago
        </>
      ) : (
        <span className="waits">never checked</span>
      )}
    </span>
  );
}
