using System.Net;
using System.Net.Http.Headers;
using System.Net.Http.Json;
using System.Net.Sockets;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Watching;
using IronKeep.Service.Events;
using IronKeep.Service.SignIn;
using IronKeep.Service.Telling;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;

namespace IronKeep.Service.Tests;

/// <summary>Who may come in, for how long, and what others learn of it.</summary>
public sealed class ComingInTests
{
    private static async Task<(HttpClient Http, CookieContainer Cookies)> SignInAsync(Bench bench, string password = Bench.Password)
    {
        var cookies = new CookieContainer();
        var http = new HttpClient(new HttpClientHandler { AllowAutoRedirect = false, CookieContainer = cookies })
        {
            BaseAddress = bench.Http.BaseAddress,
        };
        Assert.Equal(HttpStatusCode.Redirect, (await TryAsync(http, password)).StatusCode);
        return (http, cookies);
    }

    private static async Task<HttpResponseMessage> TryAsync(HttpClient http, string password)
    {
        var page = await http.GetStringAsync("/sign-in");
        var hidden = page.Split("name=\"__RequestVerificationToken\" value=\"")[1].Split('"')[0];
        return await http.PostAsync(
            "/sign-in",
            new FormUrlEncodedContent(
                new Dictionary<string, string>
                {
                    ["name"] = Bench.Name,
                    ["password"] = password,
                    ["__RequestVerificationToken"] = WebUtility.HtmlDecode(hidden),
                }
            )
        );
    }

    private static async Task<HttpStatusCode> SignOutAsync(HttpClient http)
    {
        var session = await http.GetFromJsonAsync<SessionAnswer>("/api/v1/session", ContractJson.Options);
        using var request = new HttpRequestMessage(HttpMethod.Post, "/sign-out")
        {
            Headers = { { "X-Ironkeep-Antiforgery", session!.Antiforgery } },
        };
        return (await http.SendAsync(request)).StatusCode;
    }

    [Fact]
    public async Task A_session_that_was_ended_is_over_also_for_who_kept_its_cookie()
    {
        await using var bench = await Bench.StartAsync();
        var (http, cookies) = await SignInAsync(bench);
        var kept = cookies.GetCookieHeader(bench.Http.BaseAddress!);
        using var thief = new HttpClient { BaseAddress = bench.Http.BaseAddress };
        thief.DefaultRequestHeaders.Add("Cookie", kept);
        Assert.Equal(HttpStatusCode.OK, (await thief.GetAsync("/api/v1/jobs")).StatusCode);
        Assert.True(
            Assert.Single(await http.GetFromJsonAsync<List<BrowserSession>>("/api/v1/sessions", ContractJson.Options) ?? []).ThisOne
        );
        Assert.Equal(HttpStatusCode.NoContent, await SignOutAsync(http));
        Assert.Equal(HttpStatusCode.Unauthorized, (await thief.GetAsync("/api/v1/jobs")).StatusCode);
        // Ended by its owner from elsewhere, and by time.
        var (again, _) = await SignInAsync(bench);
        var session = Assert.Single(await bench.GetAsync<IReadOnlyList<BrowserSession>>("sessions"));
        Assert.Equal(HttpStatusCode.NoContent, (await bench.RawAsync(HttpMethod.Delete, $"sessions/{session.Id}")).StatusCode);
        Assert.Equal(HttpStatusCode.Unauthorized, (await again.GetAsync("/api/v1/jobs")).StatusCode);
        var (third, _) = await SignInAsync(bench);
        bench.Clock.Now = bench.Clock.Now.AddHours(13);
        Assert.Equal(HttpStatusCode.Unauthorized, (await third.GetAsync("/api/v1/jobs")).StatusCode);
    }

    /// <summary>By the catalogue alone, whatever the cookie says of its own end; each request begins the time anew.</summary>
    [Fact]
    public async Task A_session_is_over_when_nothing_was_asked_in_it_for_twelve_hours()
    {
        await using var bench = await Bench.StartAsync();
        var sessions = bench.Services.GetRequiredService<Sessions>();
        Person mira;
        await using (var db = await bench.KeepAsync())
            mira = await db.People.SingleAsync();
        var who = await sessions.BeginAsync(mira, "10.0.0.7", "a browser", default);
        foreach (var wait in new[] { TimeSpan.FromHours(11), TimeSpan.FromHours(11), TimeSpan.FromHours(12) })
        {
            bench.Clock.Now += wait;
            Assert.True(await sessions.IsStillInAsync(who, default));
        }
        bench.Clock.Now += TimeSpan.FromHours(12) + TimeSpan.FromSeconds(1);
        Assert.False(await sessions.IsStillInAsync(who, default));
        // Its row goes with the next that begins.
        await sessions.BeginAsync(mira, "10.0.0.7", "another", default);
        await using (var db = await bench.KeepAsync())
        {
            var left = await db.Sessions.SingleAsync();
            Assert.Equal("another", left.Program);
            // Whoever knows its secret name, and is not its owner, ends nothing.
            Assert.False(await sessions.EndAsync(left.Id, mira.Id + 1, default));
            Assert.True(await sessions.EndAsync(left.Id, mira.Id, default));
        }
    }

    [Fact]
    public async Task What_is_anothers_is_neither_seen_nor_ended_and_scripts_and_other_sites_get_no_cookie()
    {
        await using var bench = await Bench.StartAsync();
        using (await bench.RawAsync(HttpMethod.Post, "people", new PersonRequest("tove", "another long sentence"))) { }
        using var tove = bench.Anonymous();
        using var made = await tove.PostAsJsonAsync("/api/v1/tokens", new TokenRequest("tove", "another long sentence", "phone"));
        var token = (await made.Content.ReadFromJsonAsync<TokenAnswer>(ContractJson.Options))!;
        tove.DefaultRequestHeaders.Authorization = new("Bearer", token.Token);
        Assert.Equal(HttpStatusCode.OK, (await tove.GetAsync("/api/v1/jobs")).StatusCode);

        var (http, _) = await SignInAsync(bench);
        var session = Assert.Single(await bench.GetAsync<IReadOnlyList<BrowserSession>>("sessions"));
        Assert.Empty(await tove.GetFromJsonAsync<List<BrowserSession>>("/api/v1/sessions", ContractJson.Options) ?? []);
        Assert.Equal(HttpStatusCode.NotFound, (await tove.DeleteAsync($"/api/v1/sessions/{session.Id}")).StatusCode);
        Assert.Equal(HttpStatusCode.OK, (await http.GetAsync("/api/v1/jobs")).StatusCode);

        Assert.DoesNotContain(await bench.GetAsync<List<TokenSummary>>("tokens"), t => t.Label == "phone");
        Assert.Equal(HttpStatusCode.NotFound, (await bench.RawAsync(HttpMethod.Delete, $"tokens/{token.Id}")).StatusCode);
        Assert.Equal(HttpStatusCode.OK, (await tove.GetAsync("/api/v1/jobs")).StatusCode);

        // Every way to change something with a cookie wants the page's value.
        foreach (var method in (HttpMethod[])[HttpMethod.Post, HttpMethod.Put, HttpMethod.Delete, HttpMethod.Patch])
        {
            using var forged = new HttpRequestMessage(method, "/api/v1/people/tove") { Content = JsonContent.Create(new { }) };
            using var answer = await http.SendAsync(forged);
            Assert.Contains("page-out-of-date", await answer.Content.ReadAsStringAsync());
        }
        Assert.Equal(2, (await bench.GetAsync<IReadOnlyList<PersonAnswer>>("people")).Count);

        using var bare = new HttpClient(new HttpClientHandler { AllowAutoRedirect = false, UseCookies = false })
        {
            BaseAddress = bench.Http.BaseAddress,
        };
        using var page = await bare.GetAsync("/sign-in");
        var forgery = page.Headers.GetValues("Set-Cookie").Single();
        var hidden = (await page.Content.ReadAsStringAsync()).Split("name=\"__RequestVerificationToken\" value=\"")[1].Split('"')[0];
        using var enter = new HttpRequestMessage(HttpMethod.Post, "/sign-in")
        {
            Headers = { { "Cookie", forgery.Split(';')[0] } },
            Content = new FormUrlEncodedContent(
                new Dictionary<string, string>
                {
                    ["name"] = Bench.Name,
                    ["password"] = Bench.Password,
                    ["__RequestVerificationToken"] = WebUtility.HtmlDecode(hidden),
                }
            ),
        };
        using var entered = await bare.SendAsync(enter);
        var set = entered.Headers.GetValues("Set-Cookie").Append(forgery).ToList();
        Assert.True(set.Count >= 3, string.Join('\n', set));
        Assert.All(set, c =>
        {
            Assert.Contains("httponly", c, StringComparison.OrdinalIgnoreCase);
            Assert.Contains("samesite=strict", c, StringComparison.OrdinalIgnoreCase);
        });
    }

    [Fact]
    public async Task A_stream_ends_when_its_token_is_taken_back()
    {
        await using var bench = await Bench.StartAsync();
        EventEndpoints.AsksEvery = TimeSpan.FromMilliseconds(50);
        try
        {
            using var request = new HttpRequestMessage(HttpMethod.Get, "/api/v1/events");
            using var stream = await bench.Http.SendAsync(request, HttpCompletionOption.ResponseHeadersRead);
            using var reader = new StreamReader(await stream.Content.ReadAsStreamAsync());
            Assert.NotNull(await reader.ReadLineAsync());
            var token = Assert.Single(await bench.GetAsync<List<TokenSummary>>("tokens"));
            await bench.RawAsync(HttpMethod.Delete, $"tokens/{token.Id}");
            await reader.ReadToEndAsync().WaitAsync(TimeSpan.FromMinutes(2));
        }
        finally
        {
            EventEndpoints.AsksEvery = TimeSpan.FromMinutes(1);
        }
    }

    [Fact]
    public async Task People_are_added_and_removed_a_password_is_changed_and_the_code_makes_exactly_one()
    {
        await using var bench = await Bench.StartAsync();
        await bench.RawAsync(HttpMethod.Post, "people", new PersonRequest("tove", "another long sentence"));
        using (var twice = await bench.RawAsync(HttpMethod.Post, "people", new PersonRequest("tove", "another long sentence")))
            Assert.Equal(HttpStatusCode.Conflict, twice.StatusCode);
        Assert.Equal(["mira", "tove"], (await bench.GetAsync<IReadOnlyList<PersonAnswer>>("people")).Select(p => p.Name));
        var (http, _) = await SignInAsync(bench);
        using (var wrong = await bench.RawAsync(HttpMethod.Put, "password", new PasswordRequest("no", "a third long sentence")))
            Assert.Equal(HttpStatusCode.Conflict, wrong.StatusCode);
        Assert.Equal(
            HttpStatusCode.NoContent,
            (await bench.RawAsync(HttpMethod.Put, "password", new PasswordRequest(Bench.Password, "a third long sentence"))).StatusCode
        );
        Assert.Equal(HttpStatusCode.Unauthorized, (await http.GetAsync("/api/v1/jobs")).StatusCode);
        await SignInAsync(bench, "a third long sentence");
        Assert.Equal(HttpStatusCode.NoContent, (await bench.RawAsync(HttpMethod.Delete, "people/tove")).StatusCode);
        using (var last = await bench.RawAsync(HttpMethod.Delete, "people/mira"))
            Assert.Contains("only person", await last.Content.ReadAsStringAsync());

        await using var fresh = await Bench.StartAsync(withPerson: false);
        var people = fresh.Services.GetRequiredService<People>();
        var answers = await Task.WhenAll(
            Enumerable
                .Range(0, 12)
                .Select(i => Task.Run(() => people.AddFirstAsync(fresh.Code!, $"person {i}", "a long enough one", default)))
        );
        Assert.Single(answers, a => a is null);
        await using var db = await fresh.KeepAsync();
        Assert.Equal(1, await db.People.CountAsync());
    }

    [Fact]
    public async Task Guessing_is_slowed_for_whoever_guesses_and_locks_out_no_browser_that_is_known()
    {
        await using var bench = await Bench.StartAsync();
        var (known, cookies) = await SignInAsync(bench);
        await SignOutAsync(known);
        using var guesser = bench.Anonymous();
        var statuses = new List<HttpStatusCode>();
        for (var i = 0; i < 40; i++)
        {
            bench.Clock.Now = bench.Clock.Now.AddSeconds(1);
            statuses.Add((await guesser.PostAsJsonAsync("/api/v1/tokens", new TokenRequest(Bench.Name, $"guess {i}", "x"))).StatusCode);
        }
        // Forty seconds, and the waits double: few of the tries were looked at.
        Assert.InRange(statuses.Count(s => s == HttpStatusCode.Unauthorized), 6, 11);
        using (var right = await guesser.PostAsJsonAsync("/api/v1/tokens", new TokenRequest(Bench.Name, Bench.Password, "x")))
            Assert.Equal(HttpStatusCode.TooManyRequests, right.StatusCode);
        // Neither a cookie that somebody made up nor one that another person's browser has makes a browser known.
        var protector = bench.Services.GetRequiredService<IDataProtectionProvider>().CreateProtector("ironkeep known browser");
        foreach (var cookie in new[] { "made-up", protector.Protect("tove") })
        {
            using var forged = new HttpRequestMessage(HttpMethod.Post, "/api/v1/tokens")
            {
                Content = JsonContent.Create(new TokenRequest(Bench.Name, Bench.Password, "x"), options: ContractJson.Options),
                Headers = { { "Cookie", $"ironkeep.known={cookie}" } },
            };
            Assert.Equal(HttpStatusCode.TooManyRequests, (await guesser.SendAsync(forged)).StatusCode);
        }
        Assert.Equal(HttpStatusCode.Redirect, (await TryAsync(known, Bench.Password)).StatusCode);
        // A wait is over after a minute at most, for everybody.
        bench.Clock.Now = bench.Clock.Now.AddSeconds(61);
        using (var right = await guesser.PostAsJsonAsync("/api/v1/tokens", new TokenRequest(Bench.Name, Bench.Password, "x")))
            Assert.Equal(HttpStatusCode.OK, right.StatusCode);
        using var another = bench.Anonymous();
        for (var i = 0; i < 30; i++)
        {
            bench.Clock.Now = bench.Clock.Now.AddSeconds(61);
            await another.PostAsJsonAsync("/api/v1/tokens", new TokenRequest(Bench.Name, $"guess {i}", "x"));
        }
        Assert.Contains(await bench.OpenAlertsAsync(), a => a is { Class: AlertClass.SignIns, Subject.Name: "sign-in" });
    }

    [Fact]
    public async Task With_a_certificate_the_service_speaks_TLS_cookies_are_secure_and_only_its_own_names_are_answered()
    {
        await using var bench = await Bench.StartAsync();
        var (certificate, key) = (bench.Root + "/cert.pem", bench.Root + "/key.pem");
        void Write(string name)
        {
            using var pair = RSA.Create(2048);
            var request = new CertificateRequest($"CN={name}", pair, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1);
            using var made = request.CreateSelfSigned(DateTimeOffset.UtcNow.AddDays(-1), DateTimeOffset.UtcNow.AddDays(9));
            File.WriteAllText(certificate, made.ExportCertificatePem());
            File.WriteAllText(key, pair.ExportPkcs8PrivateKeyPem());
        }
        Write("first");
        bench.More =
        [
            $"--IronKeep:CertificateFile={certificate}",
            $"--IronKeep:CertificateKeyFile={key}",
            "--IronKeep:Listen=https://127.0.0.1:0",
        ];
        bench.Unchecked = true;
        await bench.RestartAsync();
        Assert.Equal("https", bench.Http.BaseAddress!.Scheme);
        using var page = await bench.Http.GetAsync("/sign-in");
        Assert.All(page.Headers.GetValues("Set-Cookie"), c => Assert.Contains("secure", c, StringComparison.OrdinalIgnoreCase));
        using var other = new HttpRequestMessage(HttpMethod.Get, "/health") { Headers = { Host = "evil.example" } };
        Assert.Equal(HttpStatusCode.BadRequest, (await bench.Http.SendAsync(other)).StatusCode);
    }

    [Fact]
    public async Task What_a_trusted_proxy_says_is_believed_and_what_anybody_else_says_is_not()
    {
        await using var bench = await Bench.StartAsync();
        async Task<bool> IsSecureAsync()
        {
            using var request = new HttpRequestMessage(HttpMethod.Get, "/sign-in")
            {
                Headers = { { "X-Forwarded-Proto", "https" }, { "X-Forwarded-For", "10.9.8.7" } },
            };
            using var answer = await bench.Http.SendAsync(request);
            return answer.Headers.GetValues("Set-Cookie").All(c => c.Contains("secure", StringComparison.OrdinalIgnoreCase));
        }
        Assert.False(await IsSecureAsync());
        bench.More = ["--IronKeep:TrustedProxies=127.0.0.1"];
        await bench.RestartAsync();
        Assert.True(await IsSecureAsync());
        // One account from many addresses is slowed down, and many accounts from one address.
        using var guesser = bench.Anonymous();
        async Task<int> LookedAtAsync(Func<int, string> name, Func<int, string> from)
        {
            var looked = 0;
            for (var i = 0; i < 40; i++)
            {
                bench.Clock.Now = bench.Clock.Now.AddSeconds(1);
                using var request = new HttpRequestMessage(HttpMethod.Post, "/api/v1/tokens")
                {
                    Content = JsonContent.Create(new TokenRequest(name(i), "a guess", "x")),
                    Headers = { { "X-Forwarded-For", from(i) } },
                };
                using var answer = await guesser.SendAsync(request);
                if (answer.StatusCode == HttpStatusCode.Unauthorized)
                    looked++;
            }
            return looked;
        }
        Assert.InRange(await LookedAtAsync(_ => Bench.Name, i => $"10.1.{i}.1"), 6, 11);
        Assert.InRange(await LookedAtAsync(i => $"somebody-{i}", _ => "10.2.0.1"), 6, 11);
        Assert.Equal(40, await LookedAtAsync(i => $"other-{i}", i => $"10.3.{i}.1"));
    }

    [Fact]
    public async Task Half_open_connections_by_the_hundred_leave_the_service_answering()
    {
        await using var bench = await Bench.StartAsync();
        var sockets = new List<Socket>();
        try
        {
            for (var i = 0; i < 2500; i++)
            {
                var socket = new Socket(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp);
                sockets.Add(socket);
                await socket.ConnectAsync(IPAddress.Loopback, bench.Http.BaseAddress!.Port);
                if (i % 2 == 0)
                    await socket.SendAsync("GET / HT"u8.ToArray());
            }
            foreach (var socket in sockets.Take(1200))
                socket.Dispose();
            var until = DateTime.UtcNow.AddMinutes(3);
            while (true)
            {
                try
                {
                    using var http = new HttpClient { BaseAddress = bench.Http.BaseAddress, Timeout = TimeSpan.FromSeconds(30) };
                    if ((await http.GetAsync("/health/live")).IsSuccessStatusCode)
                        break;
                }
                catch (Exception e) when (e is HttpRequestException or TaskCanceledException && DateTime.UtcNow < until)
                {
                    await Task.Delay(200);
                }
            }
        }
        finally
        {
            foreach (var socket in sockets)
                socket.Dispose();
        }
    }

    [Fact]
    public async Task The_address_of_a_webhook_that_is_a_secret_comes_from_a_file_and_is_told_to_nobody()
    {
        await using var bench = await Bench.StartAsync();
        File.WriteAllText(bench.Root + "/hook", "http://127.0.0.1:9/services/T0PS3CRET\n");
        await bench.ApplyAsync(
            $"charter: 1\nchannels:\n  hook: {{ webhook-file: {bench.Root}/hook }}\n  drop: {{ mail-to: a@b.example, mail-from: "
                + $"e@f.example, pickup: {bench.Root}/drop }}\ntells: drop"
        );
        var test = await bench.SendAsync<ChannelTestAnswer>(HttpMethod.Post, "channels/hook/test");
        Assert.Contains("http://127.0.0.1:9:", test.Problem);
        await bench.Services.GetRequiredService<Teller>().CarryAsync(default);
        var all =
            await bench.Http.GetStringAsync("/api/v1/alerts")
            + await bench.Http.GetStringAsync("/api/v1/channels")
            + await bench.Http.GetStringAsync("/api/v1/charter")
            + string.Concat(Directory.EnumerateFiles(bench.Root + "/drop").Select(File.ReadAllText));
        Assert.Contains("127.0.0.1:9", all);
        Assert.DoesNotContain("T0PS3CRET", all);
        await using (var db = await bench.KeepAsync())
            Assert.DoesNotContain(await db.Messages.ToListAsync(), m =>
                (m.Body + m.Problem + m.Data).Contains("T0PS3CRET", StringComparison.Ordinal)
            );
        using var secret = await bench.RawAsync(
            HttpMethod.Post,
            "charter/check",
            new CharterText("charter: 1\nchannels:\n  hook: { webhook: 'https://chat.example/services/B01ZXCVASDFQWERTY1234567' }")
        );
        Assert.Contains("webhook-file", await secret.Content.ReadAsStringAsync());
    }

    [Fact]
    public async Task Keys_that_others_can_read_are_refused_and_the_services_folder_is_tightened()
    {
        await using var bench = await Bench.StartAsync();
        var key = bench.Root + "/cellar.key";
        File.WriteAllBytes(key, [.. Enumerable.Range(1, 32).Select(i => (byte)i)]);
        File.SetUnixFileMode(key, UnixFileMode.UserRead | UnixFileMode.OtherRead);
        var charter = bench.Charter().Replace("bin: 2 days", $"bin: 2 days, key-file: {key}", StringComparison.Ordinal);
        using (var open = await bench.RawAsync(HttpMethod.Put, "charter", new CharterText(charter)))
            Assert.Contains("can be read by everybody", await open.Content.ReadAsStringAsync());
        File.SetUnixFileMode(key, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        await bench.ApplyAsync(charter);
        File.SetUnixFileMode(
            bench.Root + "/service",
            UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute | UnixFileMode.OtherRead | UnixFileMode.OtherExecute
        );
        await bench.RestartAsync();
        Assert.Equal(
            UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute,
            File.GetUnixFileMode(bench.Root + "/service")
        );
        foreach (var file in Directory.EnumerateFiles(bench.Root + "/service", "catalogue.db*"))
            Assert.Equal(UnixFileMode.None, File.GetUnixFileMode(file) & (UnixFileMode.OtherRead | UnixFileMode.GroupRead));
    }
}
