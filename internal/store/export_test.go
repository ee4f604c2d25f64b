package store

// AuditLinesIn is AuditLines in a transaction.
var AuditLinesIn = auditLines
