session "s" {
  say { body = "text without its token" }
}
