/** Object stores that speak the protocol of S3. An object has no folder: names are keys below a prefix. */

import { createReadStream, createWriteStream } from "node:fs";
import { stat } from "node:fs/promises";
import type { Readable } from "node:stream";
import { pipeline } from "node:stream/promises";
import {
  CopyObjectCommand,
  DeleteObjectCommand,
  GetObjectCommand,
  HeadObjectCommand,
  ListObjectsV2Command,
  PutObjectCommand,
  S3Client,
  type S3ServiceException,
} from "@aws-sdk/client-s3";
import type { FilesInput, S3Input } from "../../core/define/files-schema.js";
import { BridgeError } from "../../core/errors.js";
import type { Warehouse } from "../warehouse.js";
import { filesWarehouse } from "./session.js";
import type { Store, StoredFile, StorePlace } from "./store.js";

/**
 * A warehouse of files in a bucket: `s3://bucket/prefix`. Where no keys are given, those of the environment are used.
 * @throws BridgeError when opened: WAREHOUSE_LOCKED, WAREHOUSE_UNREACHABLE, WAREHOUSE_NOT_OURS
 */
export function s3(url: string, files: FilesInput = {}, options: S3Input = {}): Warehouse {
  return filesWarehouse(bucketPlace(url, options), files);
}

/** A bucket, or what is below a prefix in it, as a place for files. */
export function bucketPlace(url: string, options: S3Input): StorePlace {
  const { hostname: bucket, pathname } = new URL(url);
  const path = decodeURIComponent(pathname).replace(/^\/+|\/+$/g, "");
  const prefix = path === "" ? "" : `${path}/`;
  const { endpoint, region = "us-east-1", key_id, secret } = options;
  const isPlain = endpoint?.startsWith("http:") === true;
  return {
    title: `bucket ${bucket}${path === "" ? "" : `/${path}`}`,
    id: `${endpoint ?? ""} s3://${bucket}/${path}`,
    way: !isPlain ? "TLS" : /^http:\/\/(?:localhost|127\.|\[::1\])/.test(endpoint) ? "loopback" : undefined,
    grants: grantsOf(bucket, prefix),
    open: async () => {
      const credentials =
        key_id === undefined || secret === undefined
          ? {}
          : { credentials: { accessKeyId: key_id, secretAccessKey: secret } };
      const client = new S3Client({
        region,
        ...(endpoint === undefined ? {} : { endpoint, forcePathStyle: true }),
        ...credentials,
        // other servers than the first one do not know the newer sums
        requestChecksumCalculation: "WHEN_REQUIRED",
        responseChecksumValidation: "WHEN_REQUIRED",
      });
      return new Bucket(client, bucket, prefix);
    },
  };
}

/** A policy in the store's own language. */
function grantsOf(bucket: string, prefix: string): string {
  const arn = `arn:aws:s3:::${bucket}`;
  const Statement = [
    { Effect: "Allow", Action: ["s3:ListBucket"], Resource: [arn] },
    {
      Effect: "Allow",
      Action: ["s3:GetObject", "s3:PutObject", "s3:DeleteObject"],
      Resource: [`${arn}/${prefix}*`],
    },
  ];
  return JSON.stringify({ Version: "2012-10-17", Statement }, undefined, 2);
}

class Bucket implements Store {
  constructor(
    private readonly client: S3Client,
    private readonly bucket: string,
    private readonly prefix: string,
  ) {}

  async list(prefix: string): Promise<StoredFile[]> {
    const files: StoredFile[] = [];
    let token: string | undefined;
    do {
      const Prefix = this.prefix + prefix;
      const command = new ListObjectsV2Command({ Bucket: this.bucket, Prefix, ContinuationToken: token });
      const page = await this.told(() => this.client.send(command));
      for (const { Key, Size } of page.Contents ?? [])
        files.push({ name: String(Key).slice(this.prefix.length), bytes: Size ?? 0 });
      token = page.NextContinuationToken;
    } while (token !== undefined);
    return files;
  }

  async has(name: string): Promise<boolean> {
    return this.told(async () => {
      try {
        await this.client.send(new HeadObjectCommand(this.at(name)));
        return true;
      } catch (error) {
        if (statusOf(error) === 404) return false;
        throw error;
      }
    });
  }

  async fetch(name: string, path: string): Promise<void> {
    await this.told(async () => {
      const { Body } = await this.client.send(new GetObjectCommand(this.at(name)));
      await pipeline(Body as Readable, createWriteStream(path));
    });
  }

  async put(path: string, name: string): Promise<void> {
    await this.send(path, name, {});
  }

  async putNew(path: string, name: string): Promise<boolean> {
    // not every server minds the condition; where one does not, two at the same moment are not told apart
    if (await this.has(name)) return false;
    try {
      await this.send(path, name, { IfNoneMatch: "*" });
      return true;
    } catch (error) {
      const status = statusOf((error as BridgeError).cause);
      if (status === 412 || status === 409) return false;
      throw error;
    }
  }

  async move(from: string, to: string): Promise<void> {
    await this.told(async () => {
      const CopySource = encodeURIComponent(`${this.bucket}/${this.prefix}${from}`).replaceAll("%2F", "/");
      try {
        await this.client.send(new CopyObjectCommand({ ...this.at(to), CopySource }));
      } catch (error) {
        // what was moved already may be moved again
        if (statusOf(error) !== 404 || !(await this.has(to))) throw error;
      }
      await this.client.send(new DeleteObjectCommand(this.at(from)));
    });
  }

  async remove(name: string): Promise<void> {
    await this.told(() => this.client.send(new DeleteObjectCommand(this.at(name))));
  }

  async close(): Promise<void> {
    this.client.destroy();
  }

  private at(name: string) {
    return { Bucket: this.bucket, Key: this.prefix + name };
  }

  private async send(
    path: string,
    name: string,
    condition: { readonly IfNoneMatch?: string },
  ): Promise<void> {
    const ContentLength = (await stat(path)).size;
    await this.told(() =>
      this.client.send(
        new PutObjectCommand({ ...this.at(name), ...condition, Body: createReadStream(path), ContentLength }),
      ),
    );
  }

  private async told<T>(work: () => Promise<T>): Promise<T> {
    try {
      return await work();
    } catch (cause) {
      if (cause instanceof BridgeError) throw cause;
      const { name, message } = cause as S3ServiceException;
      const status = statusOf(cause);
      const isRefused = status === 401 || status === 403;
      const why = status === undefined ? message || name : `${status} ${name}: ${message}`;
      throw new BridgeError("WAREHOUSE_UNREACHABLE", `The bucket ${this.bucket} cannot be used: ${why}.`, {
        hint: isRefused
          ? "Check key_id and secret, and that they may do what early-bridge probe --grants prints."
          : "Check the bucket's name, its region and endpoint, and run again: what was committed stands.",
        cause,
      });
    }
  }
}

const statusOf = (error: unknown) => (error as S3ServiceException | undefined)?.$metadata?.httpStatusCode;
