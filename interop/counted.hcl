# Taken in by the trials of servers that count what they receive and write.

final_check "the server counts the same" {
  request { path = "/truth" }
  holds = msg.received == messages.sent && msg.written == ledger.delivered + ledger.late + ledger.allowed
}
