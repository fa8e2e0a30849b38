import "../pilots.hcl" {}
import "../counted.hcl" {}

trial "python-path" {
  prompt = "3s"
  grace  = "5s"
}

target "server" {
  websocket = "ws://127.0.0.1:${var.port}/"
  dialect   = "theirs"
}

dialect "theirs" {
  name { confirmed = text == "on the quay: ${name}" } # it stands in the path

  enter {}

  heard {
    when    = contains(text, " says: ")
    payload = match(text, " says: (.*)$", 1)
  }

  echo { when = starts(text, "you said: ") }
}

session "watch" {
  connect { path = "/quay/${name}" }
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
