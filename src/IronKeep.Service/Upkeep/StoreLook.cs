using IronKeep.Catalogue;
using IronKeep.Service.Basics;
using IronKeep.Service.Timetable;
using Microsoft.Extensions.Options;
using NodaTime;

namespace IronKeep.Service.Upkeep;

/// <summary>Where the service ticks by itself, stores are looked after beside the loop, which waits for no disk; else with it.</summary>
public sealed class StoreLook(StoreSentry stores, IOptions<ServiceSettings> settings) : ILook
{
    public Duration Every { get; } = Duration.FromMinutes(10);

    public Task LookAsync(KeepContext db, CancellationToken cancel) =>
        settings.Value.Ticking ? Task.CompletedTask : stores.LookAsync(cancel);
}
