/** What tests use of the object store `s3rver`, which has no types of its own. */
declare module "s3rver" {
  export default class S3rver {
    constructor(options: {
      readonly port: number;
      readonly address: string;
      readonly silent: boolean;
      readonly directory: string;
      readonly configureBuckets: readonly { readonly name: string }[];
    });
    run(): Promise<{ readonly port: number }>;
    close(): Promise<void>;
  }
}
