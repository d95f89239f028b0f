import { Link } from 'react-router';
import { Empty, Page } from '../ui/Page';

export function NowherePage() {
  return (
    <Page title="No such page">
      <Empty>
        Nothing lies at this address. <Link to="/">Go to Duty</Link>, or press Ctrl+K to find a page or a job.
      </Empty>
    </Page>
  );
}
