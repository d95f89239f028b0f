namespace IronKeep.Fleet;

/// <summary>A line that carries so many bytes a second: what is sent waits before it goes.</summary>
internal sealed class SlowWay(HttpMessageHandler inner, long bytesPerSecond) : DelegatingHandler(inner)
{
    protected override async Task<HttpResponseMessage> SendAsync(HttpRequestMessage request, CancellationToken cancellationToken)
    {
        var bytes = request.Content?.Headers.ContentLength ?? 0;
        await Task.Delay(TimeSpan.FromSeconds((double)bytes / bytesPerSecond), cancellationToken);
        return await base.SendAsync(request, cancellationToken);
    }
}
