using System.Net;

namespace IronKeep.Service.SignIn;

/// <summary>The two pages that answer without a sign-in. Self-contained: no script, no other file.</summary>
internal static class SignInPages
{
    public static string SignIn(string? problem) =>
        Frame(
            "Sign in",
            problem,
            """
            <label for="name">Name</label><input id="name" name="name" autocomplete="username" required autofocus>
            <label for="password">Password</label><input id="password" name="password" type="password" autocomplete="current-password" required>
            <button>Sign in</button>
            """,
            "/sign-in",
            ""
        );

    public static string FirstPerson(string? problem) =>
        Frame(
            "The first person",
            problem,
            $"""
            <label for="code">One-time code</label><input id="code" name="code" autocomplete="one-time-code" required autofocus>
            <label for="name">Your name</label><input id="name" name="name" autocomplete="username" required>
            <label for="password">Password</label><input id="password" name="password" type="password" autocomplete="new-password" minlength="{People.ShortestPassword}" required>
            <button>Begin</button>
            """,
            "/first-person",
            $"<p>This service is new. Its output shows a one-time code; with it you become the first person. The password needs at least "
                + $"{People.ShortestPassword} characters.</p>"
        );

    private static string Frame(string title, string? problem, string fields, string action, string intro) =>
        $$"""
            <!doctype html>
            <html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>{{title}} · Iron Keep</title><link rel="icon" href="data:,">
            <style>
            :root { color-scheme: light dark; --ground: #eceef0; --card: #fbfbfc; --line: #c9ced3; --text: #1f252a; --soft: #535e67; --lamp: #a85a00; --lamp-text: #fff; --bad: #a61b1b; }
            @media (prefers-color-scheme: dark) { :root { --ground: #14181b; --card: #1c2226; --line: #3a444b; --text: #e4e8eb; --soft: #a3adb5; --lamp: #f0a445; --lamp-text: #1a1206; --bad: #ff8f85; } }
            * { box-sizing: border-box; }
            body { margin: 0; min-height: 100vh; display: grid; place-items: center; background: var(--ground); color: var(--text); font: 15px/1.5 "Inter Variable", Inter, system-ui, sans-serif; }
            main { width: min(23rem, calc(100vw - 2rem)); background: var(--card); border: 1px solid var(--line); border-radius: 6px; padding: 2rem; }
            h1 { font-size: 1.15rem; margin: 0 0 1.25rem; display: flex; gap: .6rem; align-items: center; font-weight: 650; }
            h1 svg { width: 1.7rem; height: 1.7rem; }
            p { color: var(--soft); margin: 0 0 1rem; }
            label { display: block; font-size: .85rem; font-weight: 550; margin: .9rem 0 .25rem; }
            input { width: 100%; padding: .5rem .6rem; font: inherit; color: inherit; background: var(--ground); border: 1px solid var(--line); border-radius: 4px; }
            input:focus-visible, button:focus-visible { outline: 2px solid var(--lamp); outline-offset: 1px; }
            button { margin-top: 1.4rem; width: 100%; padding: .55rem; font: inherit; font-weight: 600; color: var(--lamp-text); background: var(--lamp); border: 0; border-radius: 4px; cursor: pointer; }
            [role=alert] { color: var(--bad); font-weight: 550; margin: 0; }
            </style></head>
            <body><main>
            <h1><svg viewBox="0 0 32 32" aria-hidden="true"><path d="M4 29V6h5v4h4V6h6v4h4V6h5v23h-7v-7a5 5 0 0 0-10 0v7z" fill="currentColor"/><path d="M13.5 29v-6.5a2.5 2.5 0 0 1 5 0V29z" fill="var(--lamp)"/></svg>Iron Keep</h1>
            {{intro}}{{(problem is null ? "" : $"<p role=\"alert\">{WebUtility.HtmlEncode(problem)}</p>")}}
            <form method="post" action="{{action}}"><!--antiforgery-->
            {{fields}}
            </form></main></body></html>
            """;
}
