/** What an empty service offers as a first charter: one store, one policy, one job. */
export const example = `charter: 1
zone: Europe/London

stores:
  cellar:
    folder: /srv/ironkeep/cellar

policies:
  season:
    keep: newest 3 then 7 daily then 4 weekly

jobs:
  home:
    takes: /home
    leaves-out: ["*.tmp", "cache/"]
    into: cellar
    when: daily at 23:00
    policy: season
    fresh-within: 30 hours
`;
