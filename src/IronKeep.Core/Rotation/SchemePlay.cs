using System.Collections.Immutable;
using NodaTime;

namespace IronKeep.Core.Rotation;

/// <summary>
/// A rotation set played from its first night. Once every medium has had its turn, the media together always hold nights that lie
/// <paramref name="ReachDays"/> back, and at least so many <paramref name="Points"/>, which are nights that can be restored.
/// </summary>
public sealed record SchemePlay(RotationSet Set, ImmutableArray<RotationNight> Nights, int Media, int ReachDays, int Points)
{
    internal static SchemePlay Of(RotationSet set, ImmutableArray<RotationNight> played, int settles, int shown)
    {
        var held = new Dictionary<string, List<LocalDate>>();
        var (reach, points) = (int.MaxValue, int.MaxValue);
        for (var i = 0; i < played.Length; i++)
        {
            var night = played[i];
            if (night.Medium is { } medium)
            {
                // What is begun anew loses all that it held, from the moment at which the run begins.
                if (!night.Appends || !held.TryGetValue(medium, out var nights))
                    held[medium] = nights = [];
                if (i >= settles)
                    Look(night.Date);
                nights.Add(night.Date);
            }
            else if (i >= settles)
                Look(night.Date);
        }
        return new SchemePlay(
            set,
            [.. played.Take(shown)],
            set.Groups.Sum(g => g.Media.Length),
            reach == int.MaxValue ? 0 : reach,
            points == int.MaxValue ? 0 : points
        );

        void Look(LocalDate date)
        {
            var all = held.Values.SelectMany(n => n).ToList();
            reach = Math.Min(reach, all.Count == 0 ? 0 : Period.DaysBetween(all.Min(), date));
            points = Math.Min(points, all.Count);
        }
    }
}
