using System.Data.Common;
using System.Globalization;
using System.Text;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Storage;
using Microsoft.EntityFrameworkCore.Update;

namespace IronKeep.Catalogue;

/// <summary>
/// How rows are saved in SQLite: those that are written alike use one statement, prepared once. The library's own way makes and prepares a
/// command for each row, which takes several times as long as the row itself.
/// </summary>
internal sealed class PreparedBatches(ISqlGenerationHelper sql) : IModificationCommandBatchFactory
{
    public ModificationCommandBatch Create() => new Batch(sql);

    private sealed class Batch(ISqlGenerationHelper sql) : ModificationCommandBatch
    {
        private const int Most = 1000;
        private readonly List<IReadOnlyModificationCommand> commands = [];
        private bool more;
        private IReadOnlyModificationCommand? last;
        private string lastText = "";

        public override IReadOnlyList<IReadOnlyModificationCommand> ModificationCommands => commands;

        /// <summary>Each may be the one that does not fit, so the changes of several rows always need a transaction.</summary>
        public override bool RequiresTransaction => commands.Count > 1;

        public override bool AreMoreBatchesExpected => more;

        public override bool TryAddCommand(IReadOnlyModificationCommand modificationCommand)
        {
            if (commands.Count == Most)
                return false;
            commands.Add(modificationCommand);
            return true;
        }

        public override void Complete(bool moreBatchesExpected) => more = moreBatchesExpected;

        public override Task ExecuteAsync(IRelationalConnection connection, CancellationToken cancellationToken = default)
        {
            cancellationToken.ThrowIfCancellationRequested();
            // SQLite does nothing asynchronously.
            Execute(connection);
            return Task.CompletedTask;
        }

        public override void Execute(IRelationalConnection connection)
        {
            Dictionary<string, DbCommand> prepared = [];
            try
            {
                foreach (var command in commands)
                    One(connection, prepared, command);
            }
            finally
            {
                foreach (var command in prepared.Values)
                    command.Dispose();
            }
        }

        private void One(IRelationalConnection connection, Dictionary<string, DbCommand> prepared, IReadOnlyModificationCommand command)
        {
            var columns = command.ColumnModifications;
            if (last is null || !IsAlike(last, command))
                (last, lastText) = (command, TextOf(command));
            var text = lastText;
            if (!prepared.TryGetValue(text, out var statement))
            {
                statement = prepared[text] = connection.DbConnection.CreateCommand();
                (statement.CommandText, statement.Transaction) = (text, connection.CurrentTransaction?.GetDbTransaction());
                foreach (var name in Written(command).Concat(Conditions(command)).Select((_, i) => $"@p{i}"))
                {
                    var parameter = statement.CreateParameter();
                    parameter.ParameterName = name;
                    statement.Parameters.Add(parameter);
                }
            }
            var at = 0;
            foreach (var column in Written(command))
                statement.Parameters[at++].Value = ValueOf(column, column.Value);
            foreach (var column in Conditions(command))
                statement.Parameters[at++].Value = ValueOf(column, column.OriginalValue);
            try
            {
                using var reader = statement.ExecuteReader();
                var read = columns.Where(c => c.IsRead).ToList();
                if (read.Count > 0 ? !reader.Read() : command.EntityState != EntityState.Added && reader.RecordsAffected != 1)
                    throw new DbUpdateConcurrencyException(
                        $"a row of {command.TableName} that was to be changed is not there any more",
                        command.Entries
                    );
                for (var i = 0; i < read.Count; i++)
                    read[i].Value = Read(read[i], reader.GetValue(i));
            }
            catch (DbException e)
            {
                throw new DbUpdateException($"a row of {command.TableName} could not be saved: {e.Message}", e, command.Entries);
            }
        }

        private static IEnumerable<IColumnModification> Written(IReadOnlyModificationCommand command) =>
            command.ColumnModifications.Where(c => c.IsWrite);

        private static IEnumerable<IColumnModification> Conditions(IReadOnlyModificationCommand command) =>
            command.ColumnModifications.Where(c => c.IsCondition);

        private static object ValueOf(IColumnModification column, object? value) =>
            (column.TypeMapping!.Converter is { } converter ? converter.ConvertToProvider(value) : value) ?? DBNull.Value;

        private static object? Read(IColumnModification column, object value) =>
            column.TypeMapping!.Converter is { } converter
                ? converter.ConvertFromProvider(value)
                : Convert.ChangeType(value, column.TypeMapping.ClrType, CultureInfo.InvariantCulture);

        /// <summary>Whether two rows are written by the same statement.</summary>
        private static bool IsAlike(IReadOnlyModificationCommand one, IReadOnlyModificationCommand other)
        {
            var (columns, others) = (one.ColumnModifications, other.ColumnModifications);
            if (one.EntityState != other.EntityState || one.TableName != other.TableName || columns.Count != others.Count)
                return false;
            for (var i = 0; i < columns.Count; i++)
                if (
                    columns[i].ColumnName != others[i].ColumnName
                    || columns[i].IsWrite != others[i].IsWrite
                    || columns[i].IsRead != others[i].IsRead
                    || columns[i].IsCondition != others[i].IsCondition
                )
                    return false;
            return true;
        }

        private string TextOf(IReadOnlyModificationCommand command)
        {
            var text = new StringBuilder();
            var table = sql.DelimitIdentifier(command.TableName, command.Schema);
            var at = 0;
            if (command.EntityState == EntityState.Added)
            {
                var written = Written(command).ToList();
                text.Append("INSERT INTO ").Append(table);
                if (written.Count == 0)
                    text.Append(" DEFAULT VALUES");
                else
                    text.Append(" (")
                        .AppendJoin(", ", written.Select(c => sql.DelimitIdentifier(c.ColumnName)))
                        .Append(") VALUES (")
                        .AppendJoin(", ", written.Select(_ => $"@p{at++}"))
                        .Append(')');
            }
            else if (command.EntityState == EntityState.Modified)
                text.Append("UPDATE ")
                    .Append(table)
                    .Append(" SET ")
                    .AppendJoin(", ", Written(command).Select(c => $"{sql.DelimitIdentifier(c.ColumnName)} = @p{at++}"));
            else
                text.Append("DELETE FROM ").Append(table);
            if (command.EntityState != EntityState.Added)
                text.Append(" WHERE ")
                    .AppendJoin(" AND ", Conditions(command).Select(c => $"{sql.DelimitIdentifier(c.ColumnName)} = @p{at++}"));
            var read = command.ColumnModifications.Where(c => c.IsRead).Select(c => sql.DelimitIdentifier(c.ColumnName)).ToList();
            if (read.Count > 0)
                text.Append(" RETURNING ").AppendJoin(", ", read);
            return text.ToString();
        }
    }
}
