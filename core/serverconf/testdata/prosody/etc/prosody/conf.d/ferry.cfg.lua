VirtualHost "ferry.tarnholm.example"
	ssl = { protocol = "tlsv1_9" }
