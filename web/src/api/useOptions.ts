import { useQuery } from '@tanstack/react-query'
import { api } from './client'

/** What there is to choose from; asked once. */
export const useOptions = () =>
  useQuery({ queryKey: ['options'], queryFn: api.options, staleTime: Infinity })
