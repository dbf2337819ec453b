/** Changes with every build: what one build has kept may have another form in the next. */
declare const __BUILD__: string;
