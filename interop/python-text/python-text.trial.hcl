trial "python-text" {
  prompt = "3s"
  grace  = "5s"
}

variable "silent" { default = false }

target "server" {
  websocket = "ws://127.0.0.1:7500/board"
  dialect   = "theirs"
}

dialect "theirs" {
  name {
    after     = text == "who is there?"
    send      = "${name}"
    confirmed = text == "welcome ${name}"
  }

  enter {} # by saying one's name

  heard {
    when    = match(text, "^(\\S+): ", 1) != ""
    payload = match(text, "^\\S+: (.*)$", 1)
  }
}

session "watch" {
  connect {}
  enter { room = "quay" }
  when {
    that = var.silent
    fall_silent { evicted_within = "8s" }
  }
  otherwise {
    pause { lasts = "1500ms" } # until all are there, so that the server's count is ours
    repeat {
      every = "500ms"
      times = 6
      say { body = "berth ${n} ${mark}" }
    }
    pause { lasts = "1m" }
  }
}

crew "pilots" {
  clients = 60
  session = session.watch
}

tide {
  flood "100%" { over = "1s" }
  slack { lasts = "6s" }
  ebb { over = "1s" }
}

final_check "the server counts the same" {
  request { path = "/truth" }
  holds = msg.received == messages.sent && msg.written == ledger.delivered + ledger.late + ledger.allowed
}
