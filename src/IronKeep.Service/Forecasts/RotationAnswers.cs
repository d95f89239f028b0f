using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Core.Forecasts;
using IronKeep.Core.Rotation;
using NodaTime.Text;

namespace IronKeep.Service.Forecasts;

/// <summary>Played nights as the API gives them.</summary>
internal static class RotationAnswers
{
    public static RotationAnswer ToAnswer(this SetNights set, Charter charter) =>
        new(
            set.Set,
            (charter.RotationSets[set.Set].Zone ?? charter.Zone).Id,
            [.. set.Nights.Select(n => n.ToAnswer())],
            [.. set.Enough.Select(e => new EnoughAnswer(e.Group, charter.MediaGroups[e.Group].Media.Length, e.Count, e.How))]
        );

    public static NightAnswer ToAnswer(this RotationNight night) =>
        new(
            LocalDatePattern.Iso.Format(night.Date),
            night.Start.ToDateTimeOffset(),
            night.Group,
            night.Medium,
            night.Appends,
            night.ProtectedUntil?.ToDateTimeOffset(),
            night.Shortage is not null,
            night.Why
        );
}
