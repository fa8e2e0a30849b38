import "../pilots.hcl" {}
import "../counted.hcl" {}

trial "python-text" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  websocket = "ws://127.0.0.1:${var.port}/board"
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
