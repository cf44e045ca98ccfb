// Who is signed in, and what they may.
import { useQuery } from '@tanstack/react-query';
import { api, take } from '../api/client';

export const useWho = () => useQuery({ queryKey: ['whoami'], queryFn: () => take(api.GET('/api/v1/whoami')) });
