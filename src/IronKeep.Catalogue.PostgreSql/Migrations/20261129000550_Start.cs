using Microsoft.EntityFrameworkCore.Migrations;
using Npgsql.EntityFrameworkCore.PostgreSQL.Metadata;

#nullable disable

namespace IronKeep.Catalogue.PostgreSql.Migrations
{
    /// <inheritdoc />
    public partial class Start : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "Alerts",
                columns: table => new
                {
                    Id = table.Column<long>(type: "bigint", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    SubjectKind = table.Column<string>(type: "text", nullable: false),
                    SubjectJob = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    SubjectMachine = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    SubjectStore = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    SubjectName = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    Class = table.Column<string>(type: "text", nullable: false),
                    State = table.Column<string>(type: "text", nullable: false),
                    Message = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Remedy = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Count = table.Column<int>(type: "integer", nullable: false),
                    OpenedAt = table.Column<long>(type: "bigint", nullable: false),
                    LastAt = table.Column<long>(type: "bigint", nullable: false),
                    AcknowledgedBy = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    AcknowledgedAt = table.Column<long>(type: "bigint", nullable: true),
                    ClosedAt = table.Column<long>(type: "bigint", nullable: true),
                    RunId = table.Column<long>(type: "bigint", nullable: true),
                    ToldAt = table.Column<long>(type: "bigint", nullable: true),
                    Affected = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    ClosedBy = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    ClosedReason = table.Column<string>(type: "text", nullable: true, collation: "C")
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Alerts", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "CalendarFeeds",
                columns: table => new
                {
                    Id = table.Column<long>(type: "bigint", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    Label = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Hash = table.Column<byte[]>(type: "bytea", nullable: false),
                    MadeBy = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    MadeAt = table.Column<long>(type: "bigint", nullable: false),
                    LastReadAt = table.Column<long>(type: "bigint", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_CalendarFeeds", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "CharterRevisions",
                columns: table => new
                {
                    Id = table.Column<long>(type: "bigint", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    AppliedAt = table.Column<long>(type: "bigint", nullable: false),
                    By = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Yaml = table.Column<string>(type: "text", nullable: false, collation: "C")
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_CharterRevisions", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Copies",
                columns: table => new
                {
                    Id = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Store = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Job = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Machine = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Origin = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Taken = table.Column<long>(type: "bigint", nullable: false),
                    Ended = table.Column<long>(type: "bigint", nullable: false),
                    State = table.Column<string>(type: "text", nullable: false),
                    CheckedAt = table.Column<long>(type: "bigint", nullable: true),
                    BinnedAt = table.Column<long>(type: "bigint", nullable: true),
                    GoneAt = table.Column<long>(type: "bigint", nullable: true),
                    Items = table.Column<long>(type: "bigint", nullable: false),
                    Bytes = table.Column<long>(type: "bigint", nullable: false),
                    Skipped = table.Column<long>(type: "bigint", nullable: false),
                    NewBytes = table.Column<long>(type: "bigint", nullable: false),
                    StoredBytes = table.Column<long>(type: "bigint", nullable: false),
                    Damage = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    DamageCount = table.Column<long>(type: "bigint", nullable: false),
                    RunId = table.Column<long>(type: "bigint", nullable: true),
                    Doubt = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    HeldBy = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    HeldReason = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    HeldUntil = table.Column<long>(type: "bigint", nullable: true),
                    NotedAt = table.Column<long>(type: "bigint", nullable: true),
                    NoteDue = table.Column<bool>(type: "boolean", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Copies", x => new { x.Id, x.Store });
                });

            migrationBuilder.CreateTable(
                name: "Facts",
                columns: table => new
                {
                    Id = table.Column<long>(type: "bigint", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    At = table.Column<long>(type: "bigint", nullable: false),
                    Kind = table.Column<string>(type: "text", nullable: false),
                    Job = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    Machine = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    Store = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    CopyId = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    RunId = table.Column<long>(type: "bigint", nullable: true),
                    PlannedRunId = table.Column<long>(type: "bigint", nullable: true),
                    Due = table.Column<long>(type: "bigint", nullable: true),
                    AlertId = table.Column<long>(type: "bigint", nullable: true),
                    Word = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    Count = table.Column<int>(type: "integer", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Facts", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "FollowerPositions",
                columns: table => new
                {
                    Name = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Position = table.Column<long>(type: "bigint", nullable: false),
                    Problem = table.Column<string>(type: "text", nullable: true, collation: "C")
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_FollowerPositions", x => x.Name);
                });

            migrationBuilder.CreateTable(
                name: "HangingRuns",
                columns: table => new
                {
                    RunId = table.Column<long>(type: "bigint", nullable: false),
                    Worker = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Job = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    Machine = table.Column<string>(type: "text", nullable: false, collation: "C")
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_HangingRuns", x => x.RunId);
                });

            migrationBuilder.CreateTable(
                name: "JobWatches",
                columns: table => new
                {
                    Job = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Machine = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Watermark = table.Column<long>(type: "bigint", nullable: false),
                    ResumeAt = table.Column<long>(type: "bigint", nullable: true),
                    Since = table.Column<long>(type: "bigint", nullable: false),
                    BaseRunId = table.Column<long>(type: "bigint", nullable: false),
                    PausedBy = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    PausedReason = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    PausedAt = table.Column<long>(type: "bigint", nullable: true),
                    PausedUntil = table.Column<long>(type: "bigint", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_JobWatches", x => new { x.Job, x.Machine });
                });

            migrationBuilder.CreateTable(
                name: "Leases",
                columns: table => new
                {
                    Name = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Worker = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Term = table.Column<long>(type: "bigint", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Leases", x => x.Name);
                });

            migrationBuilder.CreateTable(
                name: "LogLines",
                columns: table => new
                {
                    RunId = table.Column<long>(type: "bigint", nullable: false),
                    Line = table.Column<int>(type: "integer", nullable: false),
                    At = table.Column<long>(type: "bigint", nullable: false),
                    Severity = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Text = table.Column<string>(type: "text", nullable: false, collation: "C")
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_LogLines", x => new { x.RunId, x.Line });
                });

            migrationBuilder.CreateTable(
                name: "Messages",
                columns: table => new
                {
                    Id = table.Column<long>(type: "bigint", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    Channel = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Subject = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Body = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Type = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Data = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    MadeAt = table.Column<long>(type: "bigint", nullable: false),
                    NextAt = table.Column<long>(type: "bigint", nullable: false),
                    Attempts = table.Column<int>(type: "integer", nullable: false),
                    EndedAt = table.Column<long>(type: "bigint", nullable: true),
                    Sent = table.Column<bool>(type: "boolean", nullable: false),
                    Problem = table.Column<string>(type: "text", nullable: true, collation: "C")
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Messages", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Notes",
                columns: table => new
                {
                    Key = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Value = table.Column<string>(type: "text", nullable: false, collation: "C")
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Notes", x => x.Key);
                });

            migrationBuilder.CreateTable(
                name: "PackReads",
                columns: table => new
                {
                    Store = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Pack = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    At = table.Column<long>(type: "bigint", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_PackReads", x => new { x.Store, x.Pack });
                });

            migrationBuilder.CreateTable(
                name: "People",
                columns: table => new
                {
                    Id = table.Column<int>(type: "integer", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    Name = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    PasswordHash = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    MadeAt = table.Column<long>(type: "bigint", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_People", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "PlannedRuns",
                columns: table => new
                {
                    Id = table.Column<long>(type: "bigint", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    Job = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Machine = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Due = table.Column<long>(type: "bigint", nullable: false),
                    Outcome = table.Column<string>(type: "text", nullable: true),
                    Stand = table.Column<string>(type: "text", nullable: true),
                    Reason = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    RunId = table.Column<long>(type: "bigint", nullable: true),
                    MadeUpBy = table.Column<long>(type: "bigint", nullable: true),
                    Times = table.Column<int>(type: "integer", nullable: false, defaultValue: 1),
                    Until = table.Column<long>(type: "bigint", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_PlannedRuns", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "PrunePlans",
                columns: table => new
                {
                    Fingerprint = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Job = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Machine = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Store = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    AsOf = table.Column<long>(type: "bigint", nullable: false),
                    Body = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    AppliedAt = table.Column<long>(type: "bigint", nullable: true),
                    ConfirmedBy = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    ConfirmedReason = table.Column<string>(type: "text", nullable: true, collation: "C")
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_PrunePlans", x => x.Fingerprint);
                });

            migrationBuilder.CreateTable(
                name: "RoomPromises",
                columns: table => new
                {
                    RunId = table.Column<long>(type: "bigint", nullable: false),
                    Store = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Bytes = table.Column<long>(type: "bigint", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_RoomPromises", x => new { x.RunId, x.Store });
                });

            migrationBuilder.CreateTable(
                name: "Runs",
                columns: table => new
                {
                    Id = table.Column<long>(type: "bigint", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    Kind = table.Column<string>(type: "text", nullable: false),
                    Job = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    Machine = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Store = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    PlannedRunId = table.Column<long>(type: "bigint", nullable: true),
                    Due = table.Column<long>(type: "bigint", nullable: true),
                    ByKind = table.Column<string>(type: "text", nullable: false),
                    ByName = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    ByRunId = table.Column<long>(type: "bigint", nullable: true),
                    Worker = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    StopAsked = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    State = table.Column<string>(type: "text", nullable: false),
                    Outcome = table.Column<string>(type: "text", nullable: true),
                    Failure = table.Column<string>(type: "text", nullable: true),
                    Sentence = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    Queued = table.Column<long>(type: "bigint", nullable: false),
                    Began = table.Column<long>(type: "bigint", nullable: true),
                    Ended = table.Column<long>(type: "bigint", nullable: true),
                    NotBefore = table.Column<long>(type: "bigint", nullable: true),
                    Attempt = table.Column<int>(type: "integer", nullable: false),
                    Order = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    CopyIds = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    ConfirmedBy = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    ConfirmedAt = table.Column<long>(type: "bigint", nullable: true),
                    Items = table.Column<long>(type: "bigint", nullable: false),
                    SelectedBytes = table.Column<long>(type: "bigint", nullable: false),
                    ReadBytes = table.Column<long>(type: "bigint", nullable: false),
                    NewBytes = table.Column<long>(type: "bigint", nullable: false),
                    StoredBytes = table.Column<long>(type: "bigint", nullable: false),
                    Skipped = table.Column<long>(type: "bigint", nullable: false),
                    TookSeconds = table.Column<double>(type: "double precision", nullable: true),
                    FailedStore = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    Brief = table.Column<string>(type: "text", nullable: true, collation: "C"),
                    ExpectedItems = table.Column<long>(type: "bigint", nullable: true),
                    ExpectedBytes = table.Column<long>(type: "bigint", nullable: true),
                    Rate = table.Column<double>(type: "double precision", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Runs", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "SealingKeys",
                columns: table => new
                {
                    Name = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Xml = table.Column<string>(type: "text", nullable: false, collation: "C")
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_SealingKeys", x => x.Name);
                });

            migrationBuilder.CreateTable(
                name: "StoreWatches",
                columns: table => new
                {
                    Store = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    What = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Watermark = table.Column<long>(type: "bigint", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_StoreWatches", x => new { x.Store, x.What });
                });

            migrationBuilder.CreateTable(
                name: "Workers",
                columns: table => new
                {
                    Id = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Host = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    ProcessId = table.Column<int>(type: "integer", nullable: false),
                    Address = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    BegunAt = table.Column<long>(type: "bigint", nullable: false),
                    BeatAt = table.Column<long>(type: "bigint", nullable: false),
                    Gone = table.Column<bool>(type: "boolean", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Workers", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Sessions",
                columns: table => new
                {
                    Id = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    PersonId = table.Column<int>(type: "integer", nullable: false),
                    Address = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Program = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    MadeAt = table.Column<long>(type: "bigint", nullable: false),
                    SeenAt = table.Column<long>(type: "bigint", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Sessions", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Sessions_People_PersonId",
                        column: x => x.PersonId,
                        principalTable: "People",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Tokens",
                columns: table => new
                {
                    Id = table.Column<long>(type: "bigint", nullable: false)
                        .Annotation("Npgsql:ValueGenerationStrategy", NpgsqlValueGenerationStrategy.IdentityByDefaultColumn),
                    PersonId = table.Column<int>(type: "integer", nullable: false),
                    Label = table.Column<string>(type: "text", nullable: false, collation: "C"),
                    Hash = table.Column<byte[]>(type: "bytea", nullable: false),
                    MadeAt = table.Column<long>(type: "bigint", nullable: false),
                    LastUsedAt = table.Column<long>(type: "bigint", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Tokens", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Tokens_People_PersonId",
                        column: x => x.PersonId,
                        principalTable: "People",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Alerts_Class_SubjectKind_SubjectJob_SubjectStore_Id",
                table: "Alerts",
                columns: new[] { "Class", "SubjectKind", "SubjectJob", "SubjectStore", "Id" });

            migrationBuilder.CreateIndex(
                name: "IX_Alerts_State",
                table: "Alerts",
                column: "State",
                filter: "\"State\" <> 'closed'");

            migrationBuilder.CreateIndex(
                name: "IX_CalendarFeeds_Hash",
                table: "CalendarFeeds",
                column: "Hash",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Copies_Job_Machine_Taken",
                table: "Copies",
                columns: new[] { "Job", "Machine", "Taken" });

            migrationBuilder.CreateIndex(
                name: "IX_Copies_Machine_Job",
                table: "Copies",
                columns: new[] { "Machine", "Job" },
                filter: "\"GoneAt\" IS NULL AND \"BinnedAt\" IS NULL");

            migrationBuilder.CreateIndex(
                name: "IX_Copies_Origin",
                table: "Copies",
                column: "Origin");

            migrationBuilder.CreateIndex(
                name: "IX_Copies_RunId",
                table: "Copies",
                column: "RunId");

            migrationBuilder.CreateIndex(
                name: "IX_Copies_Store_Taken",
                table: "Copies",
                columns: new[] { "Store", "Taken" });

            migrationBuilder.CreateIndex(
                name: "IX_Copies_Taken",
                table: "Copies",
                column: "Taken");

            migrationBuilder.CreateIndex(
                name: "IX_Messages_NextAt",
                table: "Messages",
                column: "NextAt",
                filter: "\"EndedAt\" IS NULL");

            migrationBuilder.CreateIndex(
                name: "IX_People_Name",
                table: "People",
                column: "Name",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_PlannedRuns_Due",
                table: "PlannedRuns",
                column: "Due");

            migrationBuilder.CreateIndex(
                name: "IX_PlannedRuns_Job_Machine_Due",
                table: "PlannedRuns",
                columns: new[] { "Job", "Machine", "Due" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_PlannedRuns_Open",
                table: "PlannedRuns",
                column: "Id",
                filter: "\"Outcome\" IS NULL");

            migrationBuilder.CreateIndex(
                name: "IX_PlannedRuns_Until",
                table: "PlannedRuns",
                column: "Until",
                filter: "\"Until\" IS NOT NULL");

            migrationBuilder.CreateIndex(
                name: "IX_PrunePlans_Job_Store_AppliedAt",
                table: "PrunePlans",
                columns: new[] { "Job", "Store", "AppliedAt" });

            migrationBuilder.CreateIndex(
                name: "IX_Runs_Job_Id",
                table: "Runs",
                columns: new[] { "Job", "Id" });

            migrationBuilder.CreateIndex(
                name: "IX_Runs_PlannedRunId",
                table: "Runs",
                column: "PlannedRunId");

            migrationBuilder.CreateIndex(
                name: "IX_Runs_Queued",
                table: "Runs",
                column: "Queued");

            migrationBuilder.CreateIndex(
                name: "IX_Runs_State",
                table: "Runs",
                column: "State",
                filter: "\"State\" <> 'ended'");

            migrationBuilder.CreateIndex(
                name: "IX_Runs_Store_Kind_Id",
                table: "Runs",
                columns: new[] { "Store", "Kind", "Id" });

            migrationBuilder.CreateIndex(
                name: "IX_Sessions_PersonId",
                table: "Sessions",
                column: "PersonId");

            migrationBuilder.CreateIndex(
                name: "IX_Tokens_Hash",
                table: "Tokens",
                column: "Hash",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Tokens_PersonId",
                table: "Tokens",
                column: "PersonId");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Alerts");

            migrationBuilder.DropTable(
                name: "CalendarFeeds");

            migrationBuilder.DropTable(
                name: "CharterRevisions");

            migrationBuilder.DropTable(
                name: "Copies");

            migrationBuilder.DropTable(
                name: "Facts");

            migrationBuilder.DropTable(
                name: "FollowerPositions");

            migrationBuilder.DropTable(
                name: "HangingRuns");

            migrationBuilder.DropTable(
                name: "JobWatches");

            migrationBuilder.DropTable(
                name: "Leases");

            migrationBuilder.DropTable(
                name: "LogLines");

            migrationBuilder.DropTable(
                name: "Messages");

            migrationBuilder.DropTable(
                name: "Notes");

            migrationBuilder.DropTable(
                name: "PackReads");

            migrationBuilder.DropTable(
                name: "PlannedRuns");

            migrationBuilder.DropTable(
                name: "PrunePlans");

            migrationBuilder.DropTable(
                name: "RoomPromises");

            migrationBuilder.DropTable(
                name: "Runs");

            migrationBuilder.DropTable(
                name: "SealingKeys");

            migrationBuilder.DropTable(
                name: "Sessions");

            migrationBuilder.DropTable(
                name: "StoreWatches");

            migrationBuilder.DropTable(
                name: "Tokens");

            migrationBuilder.DropTable(
                name: "Workers");

            migrationBuilder.DropTable(
                name: "People");
        }
    }
}
