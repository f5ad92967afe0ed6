secret
