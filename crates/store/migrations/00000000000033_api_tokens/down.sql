DROP TABLE api_tokens;
