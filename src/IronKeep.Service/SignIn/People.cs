using System.Security.Claims;
using System.Security.Cryptography;
using System.Text;
using IronKeep.Catalogue;
using IronKeep.Service.Basics;
using Microsoft.AspNetCore.Identity;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.SignIn;

/// <summary>
/// Who may come in: people with passwords, and their personal tokens. Passwords are kept as PBKDF2 hashes, tokens as SHA-256.
/// </summary>
public sealed class People(IDbContextFactory<KeepContext> catalogue, TimeProvider clock, IOptions<ServiceSettings> settings) : IDisposable
{
    public const int ShortestPassword = 10;
    private const int LongestText = 200;
    private const string TokenBegin = "ironkeep_";
    private static readonly Duration UseIsNotedEvery = Duration.FromMinutes(1);
    private readonly PasswordHasher<string> hasher = new();
    private readonly SemaphoreSlim adding = new(1);
    private string? code;

    /// <summary>The code with which the first person comes in; null once somebody has.</summary>
    public async Task<string?> MakeCodeAsync(CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        code = await db.People.AnyAsync(cancel) ? null : RandomNumberGenerator.GetString("abcdefghjkmnpqrstuvwxyz23456789", 12);
        File.Delete(CodeFile);
        if (code is not null)
            await File.WriteAllTextAsync(CodeFile, code + "\n", cancel);
        return code;
    }

    /// <summary>Where the code stands for who may read the data folder, until it has been used.</summary>
    private string CodeFile => Path.Combine(settings.Value.DataFolder, "first-code");

    public bool AwaitsFirst => code is not null;

    /// <summary>Makes the first person; null when done, else why not. The code makes exactly one, however many use it at once.</summary>
    public async Task<string?> AddFirstAsync(string given, string name, string password, CancellationToken cancel)
    {
        await adding.WaitAsync(cancel);
        try
        {
            if (code is null)
                return "the first person exists already; sign in";
            if (!CryptographicOperations.FixedTimeEquals(Encoding.UTF8.GetBytes(code), Encoding.UTF8.GetBytes(given.Trim())))
                return "the code is not right; it stands in the service's output and in 'first-code' in its data folder, and is made anew "
                    + "at every start";
            // Another service on the catalogue may have been given its code.
            await using (var db = await catalogue.CreateDbContextAsync(cancel))
                if (await db.People.AnyAsync(cancel))
                    return "the first person exists already; sign in";
            if (await InsertAsync(name, password, cancel) is { } problem)
                return problem;
            code = null;
            File.Delete(CodeFile);
            return null;
        }
        finally
        {
            adding.Release();
        }
    }

    /// <summary>Adds a person; null when done, else why not.</summary>
    public async Task<string?> AddAsync(string name, string password, CancellationToken cancel)
    {
        await adding.WaitAsync(cancel);
        try
        {
            return await InsertAsync(name, password, cancel);
        }
        finally
        {
            adding.Release();
        }
    }

    private async Task<string?> InsertAsync(string name, string password, CancellationToken cancel)
    {
        var trimmed = name.Trim();
        if (trimmed.Length is 0 or > LongestText || name.Any(char.IsControl))
            return "give a name of 1 to 200 characters";
        if (PasswordProblem(password) is { } problem)
            return problem;
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (await db.People.AnyAsync(p => p.Name == trimmed, cancel))
            return $"there is a person '{trimmed}' already; choose another name";
        db.People.Add(
            new Person
            {
                Name = trimmed,
                PasswordHash = hasher.HashPassword(trimmed, password),
                MadeAt = clock.Now(),
            }
        );
        await db.SaveChangesAsync(cancel);
        return null;
    }

    private static string? PasswordProblem(string password) =>
        password.Length is < ShortestPassword or > LongestText
            ? $"the password needs {ShortestPassword} to {LongestText} characters; a sentence is easy to remember"
            : null;

    /// <summary>Changes a password and ends every session of the person but the one given; null when done, else why not.</summary>
    public async Task<string?> ChangePasswordAsync(
        int personId,
        string current,
        string next,
        string? keepsSession,
        CancellationToken cancel
    )
    {
        if (PasswordProblem(next) is { } problem)
            return problem;
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        if (await db.People.FindAsync([personId], cancel) is not { } person)
            return "you are not known any more";
        if (
            hasher.VerifyHashedPassword(person.Name, person.PasswordHash, current.Length <= LongestText ? current : "")
            == PasswordVerificationResult.Failed
        )
            return "the present password is not right; nothing was changed";
        person.PasswordHash = hasher.HashPassword(person.Name, next);
        await using var change = await db.BeginChangeAsync(cancel);
        await db.SaveChangesAsync(cancel);
        await db.Sessions.Where(s => s.PersonId == personId && s.Id != keepsSession).ExecuteDeleteAsync(cancel);
        await change.CommitAsync(cancel);
        return null;
    }

    /// <summary>Removes a person with all sessions and tokens; null when done, else why not. The last one stays.</summary>
    public async Task<string?> RemoveAsync(string name, CancellationToken cancel)
    {
        await adding.WaitAsync(cancel);
        try
        {
            await using var db = await catalogue.CreateDbContextAsync(cancel);
            if (await db.People.FirstOrDefaultAsync(p => p.Name == name, cancel) is not { } person)
                return $"there is no person '{name}'; list them with 'ironkeep person list'";
            if (await db.People.CountAsync(cancel) == 1)
                return $"'{name}' is the only person; add another first, or nobody could sign in any more";
            db.People.Remove(person);
            await db.SaveChangesAsync(cancel);
            return null;
        }
        finally
        {
            adding.Release();
        }
    }

    /// <summary>The person's identity when name and password are right. An unknown name takes as long as a wrong password.</summary>
    public async Task<Person?> CheckAsync(string name, string password, CancellationToken cancel)
    {
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var trimmed = name.Trim();
        var person = await db.People.FirstOrDefaultAsync(p => p.Name == trimmed, cancel);
        var hash = person?.PasswordHash ?? UnknownHash.Value;
        var given = password.Length <= LongestText ? password : "";
        var right = hasher.VerifyHashedPassword(name, hash, given) != PasswordVerificationResult.Failed;
        return right ? person : null;
    }

    private static readonly Lazy<string> UnknownHash = new(() => new PasswordHasher<string>().HashPassword("", Guid.NewGuid().ToString()));

    /// <summary>A new token for a person; the secret is only in the answer.</summary>
    public async Task<(PersonalToken Token, string Secret)> MakeTokenAsync(Person person, string label, CancellationToken cancel)
    {
        var secret = TokenBegin + RandomNumberGenerator.GetHexString(48, lowercase: true);
        var token = new PersonalToken
        {
            PersonId = person.Id,
            Label = label,
            Hash = Hash(secret),
            MadeAt = clock.Now(),
        };
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        db.Tokens.Add(token);
        await db.SaveChangesAsync(cancel);
        return (token, secret);
    }

    /// <summary>The identity behind a token's secret, or null.</summary>
    public async Task<ClaimsIdentity?> FindByTokenAsync(string secret, string scheme, CancellationToken cancel)
    {
        if (!secret.StartsWith(TokenBegin, StringComparison.Ordinal))
            return null;
        var hash = Hash(secret);
        await using var db = await catalogue.CreateDbContextAsync(cancel);
        var token = await db.Tokens.AsNoTracking().Include(t => t.Person).FirstOrDefaultAsync(t => t.Hash == hash, cancel);
        if (token is null)
            return null;
        var now = clock.Now();
        if (token.LastUsedAt is not { } last || now - last > UseIsNotedEvery)
        {
            try
            {
                await db.Tokens.Where(t => t.Id == token.Id).ExecuteUpdateAsync(s => s.SetProperty(t => t.LastUsedAt, now), cancel);
            }
            catch (Exception e) when (CatalogueKinds.IsRefusal(e))
            {
                // A catalogue that takes nothing can still be read.
            }
        }
        var identity = IdentityOf(token.Person, scheme);
        identity.AddClaim(new Claim(Sessions.TokenClaim, token.Id.ToString(System.Globalization.CultureInfo.InvariantCulture)));
        return identity;
    }

    public static ClaimsIdentity IdentityOf(Person person, string scheme) =>
        new(
            [
                new Claim(ClaimTypes.Name, person.Name),
                new Claim(ClaimTypes.NameIdentifier, person.Id.ToString(System.Globalization.CultureInfo.InvariantCulture)),
            ],
            scheme
        );

    public void Dispose() => adding.Dispose();

    private static byte[] Hash(string secret) => SHA256.HashData(Encoding.UTF8.GetBytes(secret));
}
