DROP TABLE sign_ins;
