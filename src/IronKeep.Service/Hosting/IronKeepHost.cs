using IronKeep.Catalogue;
using IronKeep.Contracts;
using IronKeep.Core.Charters;
using IronKeep.Runs.Surroundings;
using IronKeep.Service.Alerts;
using IronKeep.Service.Backups;
using IronKeep.Service.Basics;
using IronKeep.Service.Catalogue;
using IronKeep.Service.Charters;
using IronKeep.Service.Clocks;
using IronKeep.Service.Copies;
using IronKeep.Service.Definitions;
using IronKeep.Service.Duty;
using IronKeep.Service.Events;
using IronKeep.Service.Facts;
using IronKeep.Service.Forecasts;
using IronKeep.Service.Health;
using IronKeep.Service.Hearing;
using IronKeep.Service.Jobs;
using IronKeep.Service.MachineDesk;
using IronKeep.Service.Machines;
using IronKeep.Service.Prunes;
using IronKeep.Service.Reports;
using IronKeep.Service.Rotations;
using IronKeep.Service.Runs;
using IronKeep.Service.SignIn;
using IronKeep.Service.Stores;
using IronKeep.Service.Telling;
using IronKeep.Service.Timetable;
using IronKeep.Service.Upkeep;
using IronKeep.Service.Workers;
using IronKeep.Stores.Dated;
using IronKeep.Stores.Layouts;
using IronKeep.Stores.Plain;
using IronKeep.Stores.Pooled;
using IronKeep.Stores.Posix;
using Microsoft.AspNetCore.Routing;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.FileProviders;
using Microsoft.Extensions.Options;
using Serilog;
using Serilog.Events;

namespace IronKeep.Service.Hosting;

/// <summary>Puts the service together: parts, rules of coming in, endpoints, console.</summary>
public static class IronKeepHost
{
    /// <summary>Whether the program runs only to write the OpenAPI document at build time.</summary>
    public static bool OnlyDescribes { get; } = System.Reflection.Assembly.GetEntryAssembly()?.GetName().Name == "GetDocument.Insider";

    /// <summary>
    /// The service, not yet started. The change may replace parts, such as the clock. Throws <see cref="StartRefusedException"/>
    /// when the settings are wrong or another service has the data folder.
    /// </summary>
    public static WebApplication Build(string[] args, Action<WebApplicationBuilder>? change = null)
    {
        var builder = SettingsFiles.Builder(args);
        var section = builder.Configuration.GetSection(ServiceSettings.Section);
        var settings = SettingsFiles.Read(section);
        var services = builder.Services;
        services.Configure<ServiceSettings>(section);
        if (!OnlyDescribes)
            OwnFiles.Tighten();
        var claim = OnlyDescribes ? null : OnlyOne.Claim(settings.DataFolder);
        Listening.Configure(builder, settings);
        if (!OnlyDescribes)
            services.AddSerilog(c =>
                c.MinimumLevel.Information()
                    .MinimumLevel.Override("Microsoft", LogEventLevel.Warning)
                    .MinimumLevel.Override("Microsoft.AspNetCore.DataProtection", LogEventLevel.Error)
                    .WriteTo.Console(formatProvider: System.Globalization.CultureInfo.InvariantCulture)
                    .WriteTo.File(
                        new Serilog.Formatting.Compact.RenderedCompactJsonFormatter(),
                        Path.Combine(settings.DataFolder, "logs", "ironkeepd-.jsonl"),
                        rollingInterval: RollingInterval.Day,
                        fileSizeLimitBytes: settings.LogFileMegabytes * 1_000_000L,
                        rollOnFileSizeLimit: true,
                        retainedFileCountLimit: settings.LogFiles
                    )
            );
        services.AddSingleton<TimeProvider>(new IronKeep.Stores.Posix.BootClock());
        services.AddSingleton<CatalogueGuard>();
        services.AddPooledDbContextFactory<KeepContext>(
            (s, o) => o.UseCatalogue(settings.CatalogueAt).AddInterceptors(new RefusalWatch(s.GetRequiredService<CatalogueGuard>()))
        );
        services.AddScoped(s => s.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContext());
        AddParts(services, settings);
        services.AddSignIn(keeps: !OnlyDescribes);
        services.AddOpenApi("v1", OpenApiRules.Apply);
        services.ConfigureHttpJsonOptions(o => ContractJson.Apply(o.SerializerOptions));
        services.Configure<RouteHandlerOptions>(o => o.ThrowOnBadRequest = true);
        services.AddResponseCompression();
        change?.Invoke(builder);
        // Made by the container, so that it is given back when the service is disposed of.
        if (claim is not null)
            services.AddSingleton(_ => claim);
        var app = builder.Build();
        app.Services.GetService<OnlyOne>();
        Map(app);
        return app;
    }

    /// <summary>
    /// What must be done before the first request: migrations, the charter, the first person's code (null when there is a person).
    /// </summary>
    public static async Task<string?> PrepareAsync(WebApplication app, CancellationToken cancel = default)
    {
        var settings = app.Services.GetRequiredService<IOptions<ServiceSettings>>().Value;
        if (!settings.CatalogueIsShared)
        {
            CatalogueGuard.RefuseLost(settings.DataFolder, settings.CatalogueAt);
            SelfCheck.RefuseDamaged(settings.CatalogueAt);
        }
        await CatalogueKinds.MigrateAsync(settings.CatalogueAt, cancel);
        await using (var db = await app.Services.GetRequiredService<IDbContextFactory<KeepContext>>().CreateDbContextAsync(cancel))
        {
            await app.Services.GetRequiredService<CatalogueGuard>().BeginAsync(db, cancel);
            var isGiven = app.Configuration.GetSection(ServiceSettings.Section)[nameof(ServiceSettings.Machine)] is { Length: > 0 };
            settings.Machine = await ServiceNames.KeepAsync(db, settings.Machine, isGiven, cancel);
        }
        var log = app.Services.GetRequiredService<ILogger<WebApplication>>();
        if (app.Services.GetService<OnlyOne>()?.Tightened is { } open)
            log.LogWarning("{Sentence}", open);
        if (!settings.IsLoopback && settings.CertificateFile.Length == 0 && settings.Proxies.Length == 0)
            log.LogWarning(
                "The service listens on {Address} without TLS: passwords and sessions can be read on the network. Give "
                    + "IronKeep:CertificateFile and IronKeep:CertificateKeyFile, or put a proxy with TLS before it and name it in "
                    + "IronKeep:TrustedProxies",
                settings.Listen
            );
        await app.Services.GetRequiredService<SealingKeys>().TakeOverAsync(Path.Combine(settings.DataFolder, "keys"), cancel);
        await app
            .Services.GetRequiredService<SealingKeys>()
            .BeginAsync(app.Services.GetRequiredService<Microsoft.AspNetCore.DataProtection.KeyManagement.IKeyManager>(), cancel);
        await app.Services.GetRequiredService<CharterInForce>().LoadAsync(cancel);
        await app.Services.GetRequiredService<WorkerSelf>().JoinAsync(cancel);
        await app.Services.GetRequiredService<Leading>().LookAsync(cancel);
        var dispatch = app.Services.GetRequiredService<Dispatch>();
        app.Services.GetRequiredService<EventHub>().Describe = run =>
            run.ToAnswer(dispatch.Find(run.Id), app.Services.GetRequiredService<CharterInForce>().Charter, dispatch.WaitsFor(run.Id));
        return await app.Services.GetRequiredService<People>().MakeCodeAsync(cancel);
    }

    private static void AddParts(IServiceCollection services, ServiceSettings settings)
    {
        services.AddSingleton<WorkerSelf>();
        services.AddSingleton<Leading>();
        services.AddSingleton<WorkerBeats>();
        services.AddSingleton<FactSignal>();
        services.AddSingleton<FactCarrier>();
        services.AddSingleton<EventHub>();
        if (settings.CatalogueIsShared)
        {
            services.AddSingleton<NotifyWire>();
            services.AddSingleton<IEventWire>(s => s.GetRequiredService<NotifyWire>());
            services.AddSingleton<IWireListener, HubListener>();
            services.AddSingleton<IWireListener, WireRules>();
            services.AddSingleton<CatalogueRunLogs>();
            services.AddSingleton<IRunLogs>(s => s.GetRequiredService<CatalogueRunLogs>());
        }
        else
        {
            services.AddSingleton<IEventWire, NoWire>();
            services.AddSingleton<IRunLogs, FileRunLogs>();
        }
        services.AddSingleton<CharterInForce>();
        services.AddSingleton<CharterDesk>();
        services.AddSingleton<Consequences>();
        services.AddSingleton<ILayoutKind, PooledLayout>();
        services.AddSingleton<ILayoutKind, PlainLayout>();
        services.AddSingleton<NextCopies>();
        services.AddSingleton<ILayoutKind>(s => new DatedLayout(
            store => new SeenFiles(store, s.GetRequiredService<IDbContextFactory<KeepContext>>()),
            s.GetRequiredService<TimeProvider>(),
            store => s.GetRequiredService<AgentPlaces>().Called(store)
        ));
        services.AddSingleton<StoreLayouts>();
        services.AddSingleton<IPlaceKind, FolderKind>();
        services.AddSingleton<IPlaceKind, SftpKind>();
        services.AddSingleton<AgentPlaces>();
        services.AddSingleton<IPlaceKind>(s => s.GetRequiredService<AgentPlaces>());
        services.AddSingleton<StorePlaces>();
        services.AddSingleton<OpenStores>();
        services.AddSingleton<CopyBook>();
        services.AddSingleton<ShelfKeeper>();
        services.AddSingleton<StoreSentry>();
        services.AddSingleton<StoreRoom>();
        services.AddSingleton<CopySearch>();
        services.AddSingleton<CopyCare>();
        services.AddSingleton<DefinitionDesk>();
        services.AddSingleton<Reach>();
        services.AddSingleton<ForecastDesk>();
        services.AddSingleton<TimetableAxes>();
        services.AddSingleton<CalendarAddresses>();
        services.AddSingleton<TimetableCalendar>();
        services.AddSingleton<Effects>();
        services.AddSingleton<TellerSignal>();
        services.AddSingleton<TellingDesk>();
        services.AddSingleton<DutyMail>();
        services.AddSingleton<ReportMaking>();
        services.AddSingleton<ReportDesk>();
        services.AddSingleton<ITimedWork>(s => s.GetRequiredService<ReportDesk>());
        services.AddSingleton<NightBoard>();
        services.AddSingleton<DutyReport>();
        services.AddSingleton<Reductions>();
        services.AddSingleton<IChannelCarrier>(_ => new SmtpCarrier());
        services.AddSingleton<IChannelCarrier, PickupCarrier>();
        services.AddSingleton<IChannelCarrier>(s => new WebhookCarrier(
            Outgoing(),
            s.GetRequiredService<TimeProvider>(),
            s.GetRequiredService<IOptions<ServiceSettings>>()
        ));
        services.AddSingleton(s => ActivatorUtilities.CreateInstance<Heartbeat>(s, Outgoing()));
        services.AddSingleton<IChannelCarrier>(s => ActivatorUtilities.CreateInstance<DeskCarrier>(s, Outgoing()));
        services.AddSingleton<IChannelCarrier, SyslogCarrier>();
        services.AddSingleton<IChannelCarrier, CommandCarrier>();
        services.AddSingleton<Teller>();
        services.AddSingleton<ClockWatch>();
        services.AddSingleton<MachineStanding>();
        services.AddSingleton<MachineStandings>();
        services.AddSingleton<MachineReadiness>();
        services.AddSingleton<AgentBook>();
        services.AddSingleton<AgentOrders>();
        services.AddSingleton<AgentPatience>();
        services.AddSingleton<LineCeilings>();
        services.AddSingleton<NextDues>();
        services.AddSingleton<ConnectionGate>();
        services.AddSingleton<ServicesToKeep>();
        services.AddSingleton<StandingBook>();
        services.AddSingleton<IJournals, Journals>();
        services.AddSingleton<IOwedLogs, OwedLogs>();
        services.AddSingleton<RemoteRestores>();
        services.AddSingleton<RemoteBackups>();
        services.AddSingleton<FreshnessNow>();
        services.AddSingleton<JobsNow>();
        services.AddSingleton<CoverageDesk>();
        services.AddSingleton<MachineList>();
        services.AddSingleton<InventoryDesk>();
        services.AddSingleton<SchemeDesk>();
        services.AddSingleton<AgentDesk>();
        services.AddSingleton<AgentListening>();
        services.AddSingleton<CheckInAddresses>();
        services.AddSingleton<HearingDesk>();
        services.AddSingleton<SyslogSpool>();
        services.AddSingleton<SyslogListening>();
        services.AddSingleton<LogWatching>();
        services.AddSingleton<UnreadLogs>();
        services.AddSingleton<HeardMachines>();
        services.AddSingleton<IHearingThere, HearingThere>();
        services.AddSingleton<CopyArrivals>();
        services.AddSingleton<FolderWatching>();
        services.AddSingleton<Serving>();
        services.AddSingleton<Pauses>();
        services.AddSingleton<TimedWorks>();
        services.AddSingleton<ITimedWork, CheckTimes>();
        services.AddSingleton<ITimedWork, ReclaimTimes>();
        services.AddSingleton<ITimedWork>(s => s.GetRequiredService<DutyMail>());
        services.AddSingleton<ITimedWork, SignOfLife>();
        services.AddSingleton<FreshLook>();
        services.AddSingleton<RunLimitLook>();
        services.AddSingleton<ILook>(s => s.GetRequiredService<RunLimitLook>());
        services.AddSingleton<ILook>(s => s.GetRequiredService<FreshLook>());
        services.AddSingleton<ILook, ReminderLook>();
        services.AddSingleton<ILook, EscalationLook>();
        services.AddSingleton<ILook, StoreLook>();
        services.AddSingleton<ILook, SilentMachines>();
        // What the looks before it have found counts.
        services.AddSingleton<ILook>(s => s.GetRequiredService<CoverageDesk>());
        services.AddSingleton<ILook, DownServices>();
        services.AddSingleton<ILook, RunLogTidying>();
        services.AddSingleton<IFollower, MadeUp>();
        services.AddSingleton<IFollower, Missed>();
        services.AddSingleton<IFollower, SilentRuns>();
        services.AddSingleton<IFollower, RunAlerts>();
        services.AddSingleton<IFollower>(s => s.GetRequiredService<FreshLook>());
        services.AddSingleton<IFollower, PrunesAfterSuccess>();
        services.AddSingleton<IFollower, RoomLook>();
        services.AddSingleton<IFollower>(s => s.GetRequiredService<TellingDesk>());
        services.AddSingleton<IFollower, LiveNews>();
        services.AddSingleton<MetricCounts>();
        services.AddSingleton<IFollower>(s => s.GetRequiredService<MetricCounts>());
        services.AddSingleton<KeepMetrics>();
        services.AddTelemetry(settings);
        services.AddSingleton<IBeatLook>(s => s.GetRequiredService<CharterInForce>());
        services.AddSingleton<IBeatLook>(s => s.GetRequiredService<Dispatch>());
        services.AddSingleton<IBeatLook>(s => s.GetRequiredService<RunLimitLook>());
        services.AddSingleton<SelfCheck>();
        services.AddSingleton<Tonight>();
        services.AddSingleton<AlertBook>();
        services.AddSingleton<PruneDesk>();
        services.AddSingleton<RunQueue>();
        services.AddSingleton<RunNow>();
        services.AddSingleton<WaitingList>();
        services.AddSingleton<AlertDetail>();
        services.AddSingleton<Reruns>();
        services.AddSingleton<EarlierCharters>();
        services.AddSingleton<RunWorks>();
        services.AddSingleton<RunEnds>();
        services.AddSingleton<CopyWhy>();
        services.AddSingleton<AttachDesk>();
        services.AddSingleton<IRunWork, BackupWork>();
        services.AddSingleton<IRunWork, RestoreWork>();
        services.AddSingleton<IRunWork, ExportWork>();
        services.AddSingleton<IRunWork, HealWork>();
        services.AddSingleton<IRunWork, CheckWork>();
        services.AddSingleton<IRunWork, ReclaimWork>();
        services.AddSingleton<IRunWork, PruneWork>();
        services.AddSingleton<IRunWork, WatchedWork>();
        services.AddSingleton<Dispatch>();
        services.AddSingleton<ClockLoop>();
        if (OnlyDescribes)
            return;
        services.AddHostedService(s => s.GetRequiredService<WorkerBeats>());
        services.AddHostedService(s => s.GetRequiredService<AgentListening>());
        services.AddHostedService<SystemdNotice>();
        if (settings.CatalogueIsShared)
        {
            services.AddHostedService(s => s.GetRequiredService<NotifyWire>());
            services.AddHostedService(s => s.GetRequiredService<CatalogueRunLogs>());
        }
        services.AddHostedService(s => s.GetRequiredService<FactCarrier>());
        services.AddSingleton<StepsDesk>();
        services.AddHostedService(s => s.GetRequiredService<StepsDesk>());
        services.AddHostedService(s => s.GetRequiredService<Dispatch>());
        services.AddHostedService(s => s.GetRequiredService<ClockLoop>());
        services.AddHostedService(s => s.GetRequiredService<Teller>());
        services.AddHostedService(s => s.GetRequiredService<ReportDesk>());
        services.AddHostedService(s => s.GetRequiredService<Heartbeat>());
        services.AddHostedService(s => s.GetRequiredService<HearingDesk>());
        if (settings.Ticking)
            services.AddHostedService(s => s.GetRequiredService<LogWatching>());
        if (settings.Ticking)
            services.AddHostedService(s => s.GetRequiredService<FolderWatching>());
        services.AddHostedService(s => s.GetRequiredService<SyslogListening>());
        if (settings.Ticking)
            services.AddHostedService(s => s.GetRequiredService<StoreSentry>());
    }

    private static void Map(WebApplication app)
    {
        Listening.Use(app);
        app.UseExceptionHandler(e => e.Run(Failures.WriteAsync));
        app.UseStatusCodePages(async context =>
        {
            var http = context.HttpContext;
            if (http.Request.Path.StartsWithSegments("/api"))
                await Problems
                    .Of(
                        http.Response.StatusCode,
                        "Not understood",
                        $"{http.Request.Method} {http.Request.Path} is not part of the API; its description is at /openapi/v1.json"
                    )
                    .ExecuteAsync(http);
        });
        app.Use(
            (http, next) =>
            {
                http.Response.Headers.XContentTypeOptions = "nosniff";
                http.Response.Headers.XFrameOptions = "DENY";
                http.Response.Headers["Referrer-Policy"] = "no-referrer";
                http.Response.Headers.ContentSecurityPolicy =
                    "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self' data:; frame-ancestors "
                    + "'none'";
                return next(http);
            }
        );
        app.UseRouting();
        app.Use(Telemetry.TraceAsync);
        app.Use(PathIds.Decode);
        app.UseRateLimiter();
        app.UseAuthentication();
        app.UseAuthorization();
        app.Use(SignInRules.GuardAgainstForgeryAsync);
        app.MapHealth();
        app.MapMetrics();
        app.MapOpenApi("/openapi/{documentName}.json");
        app.MapSignInPages();
        app.MapCalendarAddress();
        app.MapCheckInAddress();
        var api = app.MapGroup("/api/v1").ProducesProblem(StatusCodes.Status401Unauthorized).AddEndpointFilter(NoNulls.RefuseAsync);
        // A person who applied a charter at one service finds it at the next that he asks.
        if (app.Services.GetRequiredService<IOptions<ServiceSettings>>().Value.CatalogueIsShared)
            api.AddEndpointFilter(
                async (context, next) =>
                {
                    await context
                        .HttpContext.RequestServices.GetRequiredService<CharterInForce>()
                        .LoadAsync(context.HttpContext.RequestAborted);
                    return await next(context);
                }
            );
        api.MapSignIn();
        api.MapCharter();
        api.MapDefinitions();
        api.MapFolders();
        api.MapLogTrying();
        api.MapTimetable();
        api.MapCalendarAddresses();
        api.MapForecasts();
        api.MapRotations();
        api.MapJobs();
        api.MapMachines();
        api.MapInventories();
        api.MapHearing();
        api.MapRuns();
        api.MapConfirmation();
        api.MapCopies();
        api.MapCopyWhy();
        api.MapPrunes();
        api.MapStores();
        api.MapAlerts();
        AlertDetail.Map(api);
        Reruns.Map(api);
        Reruns.MapFailed(api);
        api.MapReports();
        api.MapDuty();
        api.MapChannels();
        api.MapWho();
        api.MapExpiryHolds();
        api.MapService();
        api.MapEvents();
        app.MapFallback("/api/{**path}", () => Results.NotFound()).ExcludeFromDescription();
        MapConsole(app);
    }

    private static void MapConsole(WebApplication app)
    {
        var settings = app.Services.GetRequiredService<IOptions<ServiceSettings>>().Value;
        var folder = settings.ConsoleFolder.Length > 0 ? settings.ConsoleFolder : Path.Combine(AppContext.BaseDirectory, "console");
        if (!Directory.Exists(folder))
            return;
        app.UseResponseCompression();
        var files = new StaticFileOptions { FileProvider = new PhysicalFileProvider(folder) };
        app.UseStaticFiles(files);
        app.MapFallbackToFile("index.html", files);
    }

    /// <summary>For addresses outside: no redirect is followed, and one that does not answer within 20 s has failed.</summary>
    private static HttpClient Outgoing() =>
        new(new SocketsHttpHandler { AllowAutoRedirect = false }) { Timeout = TimeSpan.FromSeconds(20) };
}
