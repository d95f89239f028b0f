namespace IronKeep.Contracts;

/// <summary>Name and password for a personal token; the label tells tokens apart ("mira's laptop").</summary>
public sealed record TokenRequest(string Name, string Password, string Label);

/// <summary>A new token. The secret is shown this once.</summary>
public sealed record TokenAnswer(long Id, string Label, string Token);

/// <summary>A token without its secret.</summary>
public sealed record TokenSummary(long Id, string Label, DateTimeOffset MadeAt, DateTimeOffset? LastUsedAt);

/// <summary>The one-time code of the first start, with the name and password of the first person.</summary>
public sealed record FirstPersonRequest(string Code, string Name, string Password);

/// <summary>
/// Who is signed in, and the service's own facts. The antiforgery value goes into the header X-Ironkeep-Antiforgery of changing requests
/// with a cookie.
/// </summary>
public sealed record SessionAnswer(string Person, string Machine, string Version, string Zone, DateTimeOffset Now, string Antiforgery);

/// <summary>Somebody who may sign in.</summary>
public sealed record PersonAnswer(string Name, DateTimeOffset Made);

public sealed record PersonRequest(string Name, string Password);

public sealed record PasswordRequest(string Current, string Next);

/// <summary>A browser in which you are signed in; Id is enough of it to end it.</summary>
public sealed record BrowserSession(string Id, string Address, string Program, DateTimeOffset Made, DateTimeOffset LastSeen, bool ThisOne);
