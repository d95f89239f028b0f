namespace IronKeep.Service.Basics;

/// <summary>
/// Ids in an address may hold slashes: copies of dated files are called by their paths. Sent as %2F, they arrive as they were sent.
/// </summary>
internal static class PathIds
{
    private const string Slash = "%2F";

    public static Task Decode(HttpContext http, RequestDelegate next)
    {
        if (
            http.Request.RouteValues.TryGetValue("id", out var value)
            && value is string id
            && id.Contains(Slash, StringComparison.OrdinalIgnoreCase)
        )
            http.Request.RouteValues["id"] = id.Replace(Slash, "/", StringComparison.OrdinalIgnoreCase);
        return next(http);
    }
}
