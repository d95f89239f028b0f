using System.Diagnostics;
using System.Text;

namespace IronKeep.EndToEnd.Tests;

/// <summary>
/// The Debian package, installed, used as the README says, upgraded with data, removed and purged: on a copy of this machine's files
/// that is thrown away (an overlay in namespaces of its own), so that the machine itself stays as it is. Needs root, and the package in
/// dist/, which tests/run builds.
/// </summary>
public sealed class PackageTests
{
    private static readonly string Root = Path.GetFullPath(Path.Combine(AppContext.BaseDirectory, "../../../../.."));

    /// <summary>Starts the service by the unit's own command, user and rights, and waits until it says that it is ready.</summary>
    private const string Start = """
        begin_service() {
            exec_line=$(sed -n 's/^ExecStart=//p' /lib/systemd/system/ironkeepd.service)
            rm -f /tmp/notify
            python3 -c 'import socket,os,sys
        s=socket.socket(socket.AF_UNIX,socket.SOCK_DGRAM); s.bind("/tmp/notify"); os.chmod("/tmp/notify",0o777); open("/tmp/bound","w")
        while True:
            m=s.recv(100).decode(); open("/tmp/told","a").write(m+"\n")' &
            while [ ! -e /tmp/bound ]; do sleep 0.05; done
            : > /tmp/told
            NOTIFY_SOCKET=/tmp/notify WATCHDOG_USEC=1000000 setpriv --reuid ironkeep --regid ironkeep --init-groups \
                --inh-caps -all,+dac_read_search --ambient-caps -all,+dac_read_search --bounding-set -all,+dac_read_search --no-new-privs \
                $exec_line > /tmp/service.log 2>&1 &
            service=$!
            for i in $(seq 300); do grep -q READY=1 /tmp/told && grep -q WATCHDOG=1 /tmp/told && return; kill -0 $service || break; sleep 0.1; done
            cat /tmp/service.log /tmp/told; exit 90
        }
        end_service() { kill -TERM $service; wait $service || exit 91; grep -q STOPPING=1 /tmp/told || exit 92; }
        """;

    [Fact]
    public async Task The_package_is_installed_used_as_the_readme_says_upgraded_removed_and_purged()
    {
        var package = Package("ironkeep");
        var readme = await File.ReadAllTextAsync(Path.Combine(Root, "README.md"));
        var block = readme[
            (readme.IndexOf("```sh\n", readme.IndexOf("## Install, first job", StringComparison.Ordinal), StringComparison.Ordinal) + 6)..
        ];
        var lines = block[..block.IndexOf("```", StringComparison.Ordinal)].TrimEnd().Split('\n');
        Assert.Equal(10, lines.Length);
        // Without a terminal apt asks nobody; the sign-in asks for a password on a terminal.
        var script =
            Start
            + $$"""

                set -e
                cd /tmp/work
                export USER=mira HOME=/tmp/home DEBIAN_FRONTEND=noninteractive
                mkdir -p /tmp/home dist && cp {{package}} /tmp/new.deb
                command -v sudo > /dev/null || { printf '#!/bin/sh\nexec "$@"\n' > /usr/bin/sudo; chmod 755 /usr/bin/sudo; }
                echo "== an older version, with data"
                dpkg-deb -R /tmp/new.deb /tmp/older && sed -i 's/^Version: .*/Version: 0.1.9/' /tmp/older/DEBIAN/control
                dpkg-deb --root-owner-group -Znone --build /tmp/older dist/ironkeep_0.1.9_all.deb > /dev/null && rm -rf /tmp/older
                {{lines[0]}}
                test "$(stat -c '%U %a' /var/lib/ironkeep)" = "ironkeep 700"
                begin_service
                test "$(ironkeep --version) $(ironkeepd --version)" = "{{Version}} ironkeepd {{Version}}"
                cat > /tmp/sign-in.sh <<'EOF'
                {{lines[1]}}
                EOF
                { sleep 1; echo 'a long sentence'; } | script -qfec 'bash /tmp/sign-in.sh' /dev/null
                test ! -e /var/lib/ironkeep/first-code
                {{string.Join('\n', lines[2..9].Select(Line))}}
                cmp /etc/ironkeep/ironkeepd.json /srv/back/etc/ironkeep/ironkeepd.json
                {{lines[9]}}
                end_service
                echo "== upgraded over it"
                echo '{ "IronKeep": { "DataFolder": "/var/lib/ironkeep", "Listen": "http://127.0.0.1:7420", "RunsAtOnce": 3 } }' > /etc/ironkeep/ironkeepd.json
                dpkg -i /tmp/new.deb
                grep -q '"RunsAtOnce": 3' /etc/ironkeep/ironkeepd.json
                test "$(stat -c '%U:%G %a' /etc/ironkeep/ironkeepd.json)" = "root:ironkeep 640"
                begin_service
                ironkeep run list | grep -q 'backup'
                ironkeep job run settings
                zcat /usr/share/man/man1/ironkeep-job.1.gz | grep -q 'Runs a job now'
                . /usr/share/bash-completion/completions/ironkeep
                COMP_LINE='ironkeep job r' COMP_POINT=14 COMP_WORDS=(ironkeep job r) COMP_CWORD=2; _ironkeep
                test "${COMPREPLY[*]}" = "resume run"
                # A key press waits for names only so long; a machine that is busy has them at the next.
                for i in $(seq 50); do
                    COMP_LINE='ironkeep job show ' COMP_POINT=18 COMP_WORDS=(ironkeep job show '') COMP_CWORD=3; _ironkeep
                    case " ${COMPREPLY[*]} " in *' settings '*) break ;; esac
                done
                case " ${COMPREPLY[*]} " in *' settings '*) ;; *) echo "completes ${COMPREPLY[*]}"; exit 93 ;; esac
                end_service
                echo "== removed"
                dpkg -r ironkeep
                test ! -e /usr/bin/ironkeep; test ! -d /usr/lib/ironkeep; test -e /var/lib/ironkeep/catalogue.db; test -e /etc/ironkeep/ironkeepd.json
                echo "== purged"
                mkdir /var/lib/ironkeep/mine
                dpkg -P ironkeep 2>&1 | tee /tmp/purged
                grep -q 'is kept, because it holds what the service did not make itself' /tmp/purged
                test ! -e /var/lib/ironkeep/catalogue.db; test -e /srv/back/etc/ironkeep/ironkeepd.json
                test ! -d /etc/ironkeep; test -d /srv/backups/copies
                rmdir /var/lib/ironkeep/mine; dpkg -i /tmp/new.deb > /dev/null; dpkg -P ironkeep > /dev/null
                test ! -d /var/lib/ironkeep; ! getent passwd ironkeep
                echo ALL-WELL
                """;
        var said = await InACopyOfThisMachineAsync(script);
        Assert.True(said.Contains("ALL-WELL", StringComparison.Ordinal), said);
    }

    private static string Package(string name) => Directory.GetFiles(Path.Combine(Root, "dist"), $"{name}_*.deb").Order().Last();

    /// <summary>
    /// The agent from its own package: joins, carries a job out, survives an upgrade, and leaves nothing when it is purged.
    /// </summary>
    [Fact]
    public async Task The_agents_package_is_installed_joined_used_upgraded_and_purged()
    {
        var script =
            Start
            + $$"""

                set -e
                export USER=mira HOME=/tmp/home DEBIAN_FRONTEND=noninteractive
                mkdir -p /tmp/home
                dpkg -i {{Package("ironkeep")}} > /dev/null
                sed -i 's|"IronKeep": {|"IronKeep": { "AgentListen": "https://127.0.0.1:7421", "Machine": "heron",|' /etc/ironkeep/ironkeepd.json
                begin_service
                echo 'a long sentence' | ironkeep sign-in --url http://127.0.0.1:7420 --name mira --code "$(cat /var/lib/ironkeep/first-code)" --password-stdin
                install -d -o ironkeep /srv/cellar
                cat > /tmp/charter.yaml <<'EOF'
                charter: 1
                machines: { curlew: {} }
                stores: { cellar: { folder: /srv/cellar } }
                policies: { few: { keep: newest 2 } }
                jobs: { settings: { on: curlew, takes: /etc/apt, into: cellar, policy: few } }
                EOF
                ironkeep charter apply /tmp/charter.yaml
                echo "== the agent, older, then upgraded"
                dpkg-deb -R {{Package("ironkeep-agent")}} /tmp/older && sed -i 's/^Version: .*/Version: 0.1.9/' /tmp/older/DEBIAN/control
                dpkg-deb --root-owner-group -Znone --build /tmp/older /tmp/older.deb > /dev/null
                dpkg -i /tmp/older.deb | grep 'has not joined a service yet'
                $(ironkeep machine enrol curlew | grep 'ironkeep-agent join')
                test "$(stat -c '%U %a' /var/lib/ironkeep-agent)" = "root 700"
                dpkg -i {{Package("ironkeep-agent")}} > /tmp/upgraded
                ! grep -q 'has not joined' /tmp/upgraded
                $(sed -n 's/^ExecStart=//p' /lib/systemd/system/ironkeep-agent.service) > /tmp/agent.log 2>&1 & agent=$!
                ironkeep job run settings | tee /tmp/ran
                ironkeep machine show curlew | grep -q 'joined'
                ironkeep-agent show | grep -q 'at work'
                if grep -qw avx2 /proc/cpuinfo; then readlink "/proc/$agent/exe" | grep -q '^/usr/lib/ironkeep-agent/x86-64-v3/'; fi
                zcat /usr/share/man/man8/ironkeep-agent.8.gz | grep -q 'TH'
                kill -TERM $agent; wait $agent || exit 94
                echo "== purged"
                dpkg -r ironkeep-agent > /dev/null
                test ! -e /usr/sbin/ironkeep-agent; test -e /var/lib/ironkeep-agent/key.pem
                touch /var/lib/ironkeep-agent/owed-steps/7.json 2> /dev/null || { mkdir /var/lib/ironkeep-agent/owed-steps; touch /var/lib/ironkeep-agent/owed-steps/7.json; }
                dpkg -P ironkeep-agent | grep 'is kept, because it holds what is still to be done'
                test ! -e /var/lib/ironkeep-agent/key.pem; test -e /var/lib/ironkeep-agent/owed-steps/7.json
                rm /var/lib/ironkeep-agent/owed-steps/7.json
                dpkg -i {{Package("ironkeep-agent")}} > /dev/null; dpkg -P ironkeep-agent > /dev/null
                test ! -d /var/lib/ironkeep-agent
                end_service
                echo ALL-WELL
                """;
        var said = await InACopyOfThisMachineAsync(script);
        Assert.True(said.Contains("ALL-WELL", StringComparison.Ordinal), said);
    }

    /// <summary>A line of the README; what is given back keeps its content and not its owner, and says so.</summary>
    private static string Line(string line) =>
        $"echo '$ {line.Replace("'", "'\\''", StringComparison.Ordinal)}'; {line} > /tmp/said"
        + (line.Contains(" restore ", StringComparison.Ordinal) ? " || { test $? = 1; grep -q 'owners are not restored' /tmp/said; }" : "")
        + "; cat /tmp/said";

    private static string Version =>
        System.Xml.Linq.XDocument.Load(Path.Combine(Root, "Directory.Build.props")).Descendants("Version").Single().Value;

    private static async Task<string> InACopyOfThisMachineAsync(string script)
    {
        var file = Path.GetTempFileName();
        await File.WriteAllTextAsync(file, script);
        const string Outside = """
            set -e
            top=$(mktemp -d); mount -t tmpfs -o size=3000m tmpfs "$top"; mkdir "$top/up" "$top/work" "$top/root"
            mount -t overlay overlay -o "lowerdir=/,upperdir=$top/up,workdir=$top/work" "$top/root"
            mount -t proc proc "$top/root/proc"; mount --rbind /dev "$top/root/dev"; mount -t tmpfs tmpfs "$top/root/tmp"; mount -t tmpfs tmpfs "$top/root/run"
            mkdir -p "$top/root$2"; mount --bind "$2" "$top/root$2"
            mkdir "$top/root/tmp/work"; cp "$1" "$top/root/tmp/script"
            ip link set lo up
            exec chroot "$top/root" bash /tmp/script
            """;
        var start = new ProcessStartInfo("unshare") { RedirectStandardOutput = true, RedirectStandardError = true };
        foreach (var word in (string[])["-m", "-n", "-p", "-f", "--kill-child", "bash", "-c", Outside, "bash", file, Root])
            start.ArgumentList.Add(word);
        using var process = Process.Start(start)!;
        var output = new StringBuilder();
        process.OutputDataReceived += (_, e) => Add(e.Data);
        process.ErrorDataReceived += (_, e) => Add(e.Data);
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(5));
        try
        {
            await process.WaitForExitAsync(limit.Token);
        }
        catch (OperationCanceledException)
        {
            process.Kill(entireProcessTree: true);
        }
        File.Delete(file);
        lock (output)
            return output.ToString();

        void Add(string? line)
        {
            lock (output)
                output.AppendLine(line);
        }
    }
}
