import { ActionIcon, Kbd, Modal, Table, useComputedColorScheme, useMantineColorScheme } from '@mantine/core';
import { useDisclosure, useHotkeys } from '@mantine/hooks';
import { Spotlight, spotlight } from '@mantine/spotlight';
import {
  IconArchive,
  IconBell,
  IconBuildingWarehouse,
  IconCalendarTime,
  IconClipboardList,
  IconDisc,
  IconLogout,
  IconMenu2,
  IconMoon,
  IconSearch,
  IconServer2,
  IconSettings,
  IconSun,
  IconUserShield,
  IconX,
} from '@tabler/icons-react';
import { Suspense } from 'react';
import { Link, NavLink, Outlet, useNavigate } from 'react-router';
import { openSession } from '../api/client';
import { useDuty, useJobs, useSession } from '../api/hooks';
import { useLive } from '../api/live';
import { PresentProvider } from './Facts';
import { Mark } from './Mark';

const areas = [
  { to: '/', title: 'Duty', icon: IconUserShield, key: 'd' },
  { to: '/jobs', title: 'Jobs', icon: IconClipboardList, key: 'o' },
  { to: '/timetable', title: 'Timetable', icon: IconCalendarTime, key: 't' },
  { to: '/machines', title: 'Machines', icon: IconServer2, key: 'n' },
  { to: '/copies', title: 'Copies', icon: IconArchive, key: 'c' },
  { to: '/stores', title: 'Stores', icon: IconBuildingWarehouse, key: 's' },
  { to: '/media', title: 'Media', icon: IconDisc, key: 'm' },
  { to: '/alerts', title: 'Alerts', icon: IconBell, key: 'a' },
  { to: '/settings', title: 'Settings', icon: IconSettings, key: 'e' },
];

const leave = async () => {
  const { antiforgery } = await openSession();
  await fetch('/sign-out', { method: 'POST', headers: { 'X-Ironkeep-Antiforgery': antiforgery } });
  window.location.assign('/sign-in');
};

/** From anywhere but a list into the first list; inside one its own keys count. */
const intoList = () => {
  if (document.activeElement?.closest('tbody') === null)
    document.querySelector<HTMLElement>('main tbody tr[tabindex]')?.focus();
};

/** The frame around every page: areas on the left, the page on the right, keys everywhere. */
export function Frame() {
  const session = useSession();
  const connected = useLive();
  const duty = useDuty();
  const jobs = useJobs();
  const navigate = useNavigate();
  const [helping, help] = useDisclosure(false);
  const [menu, { toggle: toggleMenu, close: closeMenu }] = useDisclosure(false);
  const { setColorScheme } = useMantineColorScheme();
  const dark = useComputedColorScheme('light') === 'dark';
  useHotkeys([
    ['mod+K', () => spotlight.open()],
    ['shift+?', help.open],
    [
      '/',
      () =>
        (
          document.querySelector<HTMLElement>('[data-search]') ?? document.querySelector<HTMLElement>('main input')
        )?.focus(),
    ],
    ['j', intoList],
    ...areas.map((a) => [`alt+${a.key}`, () => void navigate(a.to)] as [string, () => void]),
  ]);
  const waiting = duty.data?.alerts.filter((a) => a.state === 'open').length ?? 0;
  return (
    <PresentProvider zone={session.data?.zone ?? 'UTC'}>
      <div className="frame">
        <nav className="rail" aria-label="Areas" data-open={menu || undefined}>
          <div className="rail-head">
            <Link to="/" className="mark" onClick={closeMenu}>
              <Mark /> <span className="rail-word">Iron Keep</span>
            </Link>
            {waiting > 0 && (
              <Link to="/" className="badge rail-waiting" aria-label={`${waiting} waiting on Duty`} onClick={closeMenu}>
                {waiting}
              </Link>
            )}
            <ActionIcon
              className="rail-menu"
              variant="transparent"
              c="#dfe4e8"
              size={40}
              aria-label={menu ? 'Close the menu' : 'Open the menu'}
              aria-expanded={menu}
              onClick={toggleMenu}
            >
              {menu ? <IconX size={22} /> : <IconMenu2 size={22} />}
            </ActionIcon>
          </div>
          <div className="rail-areas">
            {areas.map((a) => (
              <NavLink
                key={a.to}
                to={a.to}
                end={a.to === '/'}
                title={a.title}
                className={({ isActive }) => (isActive ? 'active' : '')}
                onClick={closeMenu}
              >
                <a.icon size={17} stroke={1.7} aria-hidden /> <span className="rail-word">{a.title}</span>
                {a.to === '/' && waiting > 0 && (
                  <span className="badge" aria-label={`${waiting} open alerts`}>
                    {waiting}
                  </span>
                )}
              </NavLink>
            ))}
            <div className="foot">
              <div className="rail-word" style={{ marginBottom: 8 }}>
                {session.data?.person} on {session.data?.machine}
              </div>
              <ActionIcon
                variant="transparent"
                c="#b6bdc4"
                aria-label="Find anything (Ctrl+K)"
                onClick={() => {
                  closeMenu();
                  spotlight.open();
                }}
              >
                <IconSearch size={17} />
              </ActionIcon>
              <ActionIcon
                variant="transparent"
                c="#b6bdc4"
                aria-label={dark ? 'Light colours' : 'Dark colours'}
                onClick={() => setColorScheme(dark ? 'light' : 'dark')}
              >
                {dark ? <IconSun size={17} /> : <IconMoon size={17} />}
              </ActionIcon>
              <ActionIcon variant="transparent" c="#b6bdc4" aria-label="Sign out" onClick={() => void leave()}>
                <IconLogout size={17} />
              </ActionIcon>
            </div>
          </div>
        </nav>
        <main className="page">
          {!connected && (
            <div role="status" className="soft" style={{ marginBottom: 8 }}>
              The service does not answer; what you see may be old. It is asked again every few seconds.
            </div>
          )}
          <Suspense fallback={null}>
            <Outlet />
          </Suspense>
        </main>
      </div>
      <Spotlight
        shortcut={null}
        searchProps={{ placeholder: 'Go to a page or a job', 'aria-label': 'Go to a page or a job' }}
        nothingFound="Nothing of that name"
        limit={12}
        actions={[
          ...areas.map((a) => ({ id: a.to, label: a.title, onClick: () => void navigate(a.to) })),
          ...(jobs.data ?? []).map((j) => ({
            id: `job-${j.name}`,
            label: j.name,
            description: `job, ${j.when ?? 'by hand'}`,
            onClick: () => void navigate(`/jobs/${j.name}`),
          })),
        ]}
      />
      <Modal opened={helping} onClose={help.close} title="Keys">
        <Table>
          <Table.Tbody>
            {[
              ['Ctrl+K', 'go to a page or a job'],
              ['/', 'search on this page'],
              ['j  k', 'next and previous row'],
              ['Enter', 'open the row'],
              ...areas.map((a) => [`Alt+${a.key.toUpperCase()}`, a.title]),
              ['?', 'these keys'],
            ].map(([key, what]) => (
              <Table.Tr key={key}>
                <Table.Td>
                  <Kbd>{key}</Kbd>
                </Table.Td>
                <Table.Td>{what}</Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </Modal>
    </PresentProvider>
  );
}
