"""What people do, as use cases: they own transactions, idempotency and the audit trail. No HTTP here."""
