using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Service.Basics;
using IronKeep.Service.Charters;
using IronKeep.Service.Copies;
using IronKeep.Service.Definitions;
using IronKeep.Service.Stores;
using IronKeep.Stores;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Places;
using IronKeep.Stores.Pooled;
using Microsoft.AspNetCore.Http.HttpResults;

namespace IronKeep.Service.Upkeep;

/// <summary>
/// Takes a store that lies in a folder into the charter, and what it holds into the catalogue: a store says all that is to be known of
/// its copies, so a catalogue that was lost, or a store that came from elsewhere, costs nothing but this.
/// </summary>
public sealed class AttachDesk(
    CharterInForce inForce,
    CharterDesk desk,
    DefinitionDesk definitions,
    ShelfKeeper shelves,
    OpenStores stores,
    StoreLayouts layouts
)
{
    private const string Kind = "store";

    /// <summary>How many copies were learned and which records cannot be read; or why not, and then nothing was changed.</summary>
    public async Task<(int Learned, IReadOnlyList<string> Unreadable, ProblemHttpResult? Refusal)> AttachAsync(
        AttachRequest request,
        string by,
        CancellationToken cancel
    )
    {
        if (!CharterReader.IsName(request.Name))
            return Refuse(Problems.Invalid($"'{request.Name}' cannot be a name; use lower-case letters, digits and hyphens, at most 63"));
        if (!request.Folder.StartsWith('/'))
            return Refuse(
                Problems.Invalid(
                    $"'{request.Folder}' is not an absolute folder of the service's machine; begin it with '/' (a store on a server is "
                        + $"declared in the charter)"
                )
            );
        var folder = CharterReader.Normal(request.Folder);
        var revision = inForce.Revision;
        var known = inForce.Charter.Stores.GetValueOrDefault(request.Name);
        if (known is not null && known.Folder != folder)
            return Refuse(
                Problems.Refused(
                    $"the charter has a store '{request.Name}' at {known.Folder}; attach {folder} under another name, or change the folder "
                        + $"of '{request.Name}' if it has moved"
                )
            );
        if (await LookAsync(request, folder) is { } problem)
            return Refuse(Problems.Refused(problem));
        var learned = 0;
        if (known is null)
        {
            var fields = new Dictionary<string, IReadOnlyList<string>> { ["folder"] = [folder] };
            if (request.KeyFile is { } key)
                fields["key-file"] = [key];
            if (request.PassphraseFile is { } phrase)
                fields["passphrase-file"] = [phrase];
            var draft = definitions.With(Kind, request.Name, new DefinitionRequest(fields));
            if (draft.Reading.Charter is null)
                return Refuse(Problems.Invalid($"store {request.Name} cannot be attached: {draft.Mistakes[0].Message}"));
            var applied = await desk.ApplyAsync(draft.Reading, revision, by, cancel);
            if (applied.Problem is { } why)
                return Refuse(Problems.Refused(why));
            learned = applied.Learned.GetValueOrDefault(request.Name);
        }
        var shelf = await shelves.SettleAsync(request.Name, notes: true, cancel);
        return (shelf.Learned + learned, shelf.Unreadable, null);

        static (int, IReadOnlyList<string>, ProblemHttpResult?) Refuse(ProblemHttpResult refusal) => (0, [], refusal);
    }

    /// <summary>Opens the store as it will be opened later; why that cannot be, or null.</summary>
    private async Task<string?> LookAsync(AttachRequest request, string folder)
    {
        try
        {
            return await stores.WithinAsync(request.Name, () => Look(request, folder));
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException or StoreKeyException)
        {
            return e.Message;
        }
    }

    private string? Look(AttachRequest request, string folder)
    {
        var declared = new StoreDefinition(request.Name, folder, null, null, StoreDefinition.UsualBin)
        {
            KeyFile = request.KeyFile,
            PassphraseFile = request.PassphraseFile,
        };
        var place = new FolderPlace(folder);
        var layout = layouts.At(place) ?? layouts.Of(declared);
        using var store = layout.OpenToRead(new StoreOpening(declared, place, StorePlaces.SecretOf(declared), inForce.Charter.Zone));
        if (declared is { KeyFile: null, PassphraseFile: null } != !layout.Encrypts(place))
            return $"the store at {folder} does not encrypt; attach it without a key file or passphrase file";
        foreach (var other in inForce.Charter.Stores.Values.Where(s => s.Name != request.Name))
            if (IdOf(other) == store.Id)
                return $"{folder} holds the very store that the charter has as '{other.Name}' at {other.Folder}; change the folder of "
                    + $"'{other.Name}' if it has moved, and do not use two pictures of one store";
        return null;
    }

    private string? IdOf(StoreDefinition declared)
    {
        try
        {
            return stores.Get(declared.Name).Id;
        }
        catch (Exception e) when (e is PlaceException or StoreDamageException)
        {
            // One that cannot be reached cannot be compared.
            return null;
        }
    }
}
