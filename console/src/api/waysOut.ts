/** The way out of a refusal, in the words of this console; undefined where the refusal's own sentence says it all. */
export function wayOut(code: string | undefined, facts: Record<string, string> = {}): string | undefined {
  switch (code) {
    case 'not-there':
      return 'It may have been removed meanwhile; go back to the list.';
    case 'which-store':
      return `Choose one of its stores (${facts.stores}).`;
    case 'which-machine':
      return `Open it on one of its machines (${facts.machines}).`;
    case 'sign-in-needed':
      return 'Sign in again.';
    case 'page-out-of-date':
      return 'Reload it, and do it again.';
    case 'exists-already':
      return 'Open it and change it there, or choose another name.';
    case 'changed-meanwhile':
      return 'Reload the page, and change what is there now.';
    case 'too-far-ahead':
      return 'The Forecast page looks further.';
    default:
      return undefined;
  }
}
